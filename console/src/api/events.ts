import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, http, type Schemas } from "./http";

export type NewEvent = Pick<Schemas["KeptEvent"], "user" | "item"> & { kind?: string; value?: number };

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

/** Sends one event. */
export function useSendEvent(data: string, onSent: (accepted: Schemas["EventsAccepted"]) => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (event: NewEvent) => answer(http.POST("/v1/events", { params: { query: { notes: true } }, body: { data, ...event } })),
    onSuccess: (accepted) => {
      void queries.invalidateQueries({ queryKey: ["events", data] });
      void queries.invalidateQueries({ queryKey: ["live", data] });
      onSent(accepted);
    },
  });
}

export interface CellChange {
  side: "item" | "user";
  id: string;
  column: string;
  value: unknown;
}

/** Changes a cell of an item or a user, from now on. */
export function useChangeCell(name: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ side, id, column, value }: CellChange) =>
      answer(http.POST("/v1/datasets/{name}/{side}/changes", { params: { path: { name, side: `${side}s` } }, body: { changes: [{ id, columns: { [column]: value } }] } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["live", name] }),
  });
}

/** Begins to make the next version of a dataset, with what came since its newest. */
export function useGather(name: string, onBegun: (job: Schemas["Job"]) => void) {
  return useMutation({
    mutationFn: () => answer(http.POST("/v1/datasets/{name}/gatherings", { params: { path: { name } } })) as Promise<Schemas["Job"]>,
    onSuccess: onBegun,
  });
}
