import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, ApiError, http } from "./http";

/** Who is signed in, or that somebody has to. */
export function useSession() {
  return useQuery({ queryKey: ["session"], queryFn: whoIsSignedIn, staleTime: Infinity });
}

/** A refusal is an answer like any other: the form to sign in, and what is typed into it, stay while this is asked again. */
async function whoIsSignedIn() {
  try {
    return { needsKey: false, key: (await answer(http.GET("/v1/session"))).key };
  } catch (error) {
    if (error instanceof ApiError && error.status === 401) return { needsKey: true, key: null };
    throw error;
  }
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
