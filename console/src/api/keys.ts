import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, http, type Schemas } from "./http";

export type Key = Schemas["Key"];
export type NewKey = Schemas["NewKey"];
export type Scope = Schemas["Scope"];

const WRITES = 100;

/** Every key, without its secret. */
export function useKeys() {
  return useQuery({ queryKey: ["keys"], queryFn: () => answer(http.GET("/v1/keys")), retry: false });
}

/** What was written last, by every key or by one. */
export function useWrites(key: string | null) {
  return useQuery({
    queryKey: ["writes", key],
    queryFn: () => answer(http.GET("/v1/audit", { params: { query: { key: key ?? undefined, limit: WRITES } } })),
    retry: false,
  });
}

function useKeyChange<Given, Answer>(change: (given: Given) => Promise<Answer>, onDone: (done: Answer) => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSuccess: (done) => {
      void queries.invalidateQueries({ queryKey: ["keys"] });
      void queries.invalidateQueries({ queryKey: ["writes"] });
      onDone(done);
    },
  });
}

/** Makes a key. */
export function useCreateKey(onMade: (key: NewKey) => void) {
  return useKeyChange((body: Schemas["KeyRequest"]) => answer(http.POST("/v1/keys", { body })), onMade);
}

/** Gives a key a new secret. */
export function useRotateKey(onMade: (key: NewKey) => void) {
  return useKeyChange(
    ({ name, minutes }: { name: string; minutes: number }) => answer(http.POST("/v1/keys/{name}/rotate", { params: { path: { name } }, body: { grace_minutes: minutes } })),
    onMade,
  );
}

/** Ends a key at once. */
export function useRevokeKey(onDone: () => void) {
  return useKeyChange((name: string) => answer(http.POST("/v1/keys/{name}/revoke", { params: { path: { name } } })), onDone);
}
