import { useSignIn, useSignOut } from "../api/session";
import { Alert, Button, PasswordInput } from "@mantine/core";
import { useState } from "react";

/** A key, once: the browser then holds a session that scripts cannot read. */
export function SignIn() {
  const [key, setKey] = useState("");
  const signIn = useSignIn();
  return (
    <main className="sign-in">
      <h1 className="page-title">Gleaner</h1>
      <p className="quiet">This service needs a key. Most pages need its scope build; keys are made with <code>gleaner key create</code>.</p>
      <form onSubmit={(event) => { event.preventDefault(); signIn.mutate(key); }}>
        <PasswordInput label="Key" autoComplete="current-password" value={key} onChange={(event) => setKey(event.currentTarget.value)} />
        <Button type="submit" mt="sm" disabled={!key.trim()} loading={signIn.isPending}>Sign in</Button>
      </form>
      {signIn.isError && <Alert color="ochre" variant="outline" mt="md" role="alert">{signIn.error.message}</Alert>}
    </main>
  );
}

/** Who is signed in, and a button to sign out. */
export function SignedIn({ name }: { name: string }) {
  const signOut = useSignOut();
  return (
    <div className="quiet signed-in">
      key {name}
      <Button size="compact-xs" variant="subtle" onClick={() => signOut.mutate()}>Sign out</Button>
    </div>
  );
}
