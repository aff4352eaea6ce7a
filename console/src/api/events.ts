import { useQuery } from "@tanstack/react-query";
import { answer, http } from "./http";

/** What came since the newest version, kept current. */
export function useLive(name: string, every: number) {
  return useQuery({
    queryKey: ["live", name],
    queryFn: () => answer(http.GET("/v1/datasets/{name}/live", { params: { path: { name } } })),
    refetchInterval: every,
  });
}

/** The last events, kept current. */
export function useEvents(data: string, limit: number, every: number) {
  return useQuery({
    queryKey: ["events", data],
    queryFn: () => answer(http.GET("/v1/events", { params: { query: { data, limit } } })),
    refetchInterval: every,
  });
}
