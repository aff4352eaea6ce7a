import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, http } from "./http";

/** Who is signed in. */
export function useSession() {
  return useQuery({ queryKey: ["session"], queryFn: () => answer(http.GET("/v1/session")), staleTime: Infinity });
}

/** Signs in with a key; everything that was asked for before is asked for again. */
export function useSignIn() {
  const queries = useQueryClient();
  return useMutation({ meta: { signsIn: true }, mutationFn: (key: string) => answer(http.POST("/v1/session", { body: { key } })), onSuccess: () => queries.resetQueries() });
}

/** Signs out. */
export function useSignOut() {
  const queries = useQueryClient();
  return useMutation({ mutationFn: () => answer(http.DELETE("/v1/session")), onSettled: () => queries.resetQueries() });
}
