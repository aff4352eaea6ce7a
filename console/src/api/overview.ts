import { useQuery } from "@tanstack/react-query";
import { answer, http, type Schemas } from "./http";

export type Overview = Schemas["Overview"];
export type ServedShelf = Schemas["ServedShelf"];

const EVERY_MS = 5_000;

/** What is served, what runs, what needs attention; kept current. */
export function useOverview() {
  return useQuery({ queryKey: ["overview"], queryFn: () => answer(http.GET("/v1/overview")), refetchInterval: EVERY_MS });
}
