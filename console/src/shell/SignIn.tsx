import { Alert, Button, PasswordInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../api/client";

/** A key, once: the browser then holds a session that scripts cannot read. */
export function SignIn() {
  const [key, setKey] = useState("");
  const queries = useQueryClient();
  const signIn = useMutation({ mutationFn: () => api.signIn(key), onSuccess: () => queries.resetQueries() });
  return (
    <main className="sign-in">
      <h1 className="page-title">Gleaner</h1>
      <p className="quiet">This service needs a key. Most pages need its scope build; keys are made with <code>gleaner key create</code>.</p>
      <form onSubmit={(event) => { event.preventDefault(); signIn.mutate(); }}>
        <PasswordInput label="Key" autoComplete="current-password" value={key} onChange={(event) => setKey(event.currentTarget.value)} />
        <Button type="submit" mt="sm" disabled={!key.trim()} loading={signIn.isPending}>Sign in</Button>
      </form>
      {signIn.isError && <Alert color="ochre" variant="outline" mt="md" role="alert">{signIn.error.message}</Alert>}
    </main>
  );
}

/** As whom the console asks, and the way out. */
export function SignedIn({ name }: { name: string }) {
  const queries = useQueryClient();
  const signOut = useMutation({ mutationFn: api.signOut, onSettled: () => queries.resetQueries() });
  return (
    <div className="quiet signed-in">
      key {name}
      <Button size="compact-xs" variant="subtle" onClick={() => signOut.mutate()}>Sign out</Button>
    </div>
  );
}
