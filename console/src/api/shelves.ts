import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, http, type Schemas } from "./http";

export type Answer = Schemas["RecommendationAnswer"];
export type ShelfSummary = Schemas["ShelfSummary"];
export type ShelfVersion = Schemas["ShelfVersion"];

const REFRESH_LOOK_MS = 2_000;
const path = (shelf: string) => ({ path: { shelf } });

/** What a list is asked for by. */
export interface ListRequest {
  user?: string;
  recent: string[];
  values?: Record<string, number>;
  n: number;
  where?: string;
  candidates?: string[];
}

/** Every shelf. */
export function useShelves() {
  return useQuery({ queryKey: ["shelves"], queryFn: () => answer(http.GET("/v1/shelves", { params: { query: { limit: 200 } } })) });
}

/** Fetches a version of a shelf. */
export function fetchShelf(shelf: string): Promise<ShelfVersion> {
  return answer(http.GET("/v1/shelves/{shelf}", { params: path(shelf) }));
}

/** A version of a shelf. */
export function useShelf(shelf: string) {
  return useQuery({ queryKey: ["shelf", shelf], queryFn: () => fetchShelf(shelf) });
}

/** Every version that was published or served. */
export function useShelfHistory(shelf: string) {
  return useQuery({ queryKey: ["shelf-history", shelf], queryFn: () => answer(http.GET("/v1/shelves/{shelf}/versions", { params: path(shelf) })) });
}

/** What a version changed. */
export function useShelfDifference(shelf: string, number: number) {
  return useQuery({
    queryKey: ["shelf-difference", shelf, number],
    queryFn: () => answer(http.GET("/v1/shelves/{shelf}/difference", { params: { ...path(shelf), query: { before: number - 1, after: number } } })),
  });
}

/** Serves an earlier version again. */
export function useRollBack(shelf: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (to: number) => answer(http.POST("/v1/shelves/{shelf}/rollback", { params: path(shelf), body: { to } })),
    onSuccess: () => queries.invalidateQueries(),
  });
}

/** The mistakes of a shelf file, or what it would list, and the models that it would change. */
export function useShelfCheck(file: string, updateModels: boolean) {
  return useQuery({
    queryKey: ["shelf-check", file, updateModels],
    queryFn: () => answer(http.POST("/v1/shelves/check", { body: { file, name: "shelf.yaml", update_models: updateModels } })),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** A shelf file to begin with, for a model. */
export function useShelfDraft(model: string) {
  return useQuery({
    queryKey: ["shelf-draft", model],
    queryFn: () => answer(http.GET("/v1/models/{model}/shelf-file", { params: { path: { model } } })),
    staleTime: Infinity,
  });
}

/** A shelf file to publish. basedOn: the version that it was edited from, 0 for a new shelf. */
export interface Publication {
  file: string;
  basedOn: number;
  updateModels: boolean;
}

/** Publishes a shelf file, unless another version than the one it is based on is served by then. */
export function usePublishShelf(onPublished: (shelf: ShelfVersion) => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ file, basedOn, updateModels }: Publication) =>
      answer(http.POST("/v1/shelves", { body: { file, name: "shelf.yaml", based_on: basedOn, update_models: updateModels } })),
    onSuccess: async (shelf) => {
      await queries.invalidateQueries();
      onPublished(shelf);
    },
  });
}

/** What became of the refreshes of a shelf; looked at again while one runs. */
export function useRefreshes(shelf: string) {
  return useQuery({
    queryKey: ["refreshes", shelf],
    queryFn: () => answer(http.GET("/v1/shelves/{shelf}/refreshes", { params: { ...path(shelf), query: { limit: 20 } } })),
    refetchInterval: (query) => (query.state.data?.refreshes.items.some(isRefreshing) ? REFRESH_LOOK_MS : false),
  });
}

/** Whether a refresh has not ended. */
export function isRefreshing(refresh: { state: string }): boolean {
  return refresh.state === "running" || refresh.state === "proposed";
}

/** Refreshes a shelf now. */
export function useRefreshNow(shelf: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () => answer(http.POST("/v1/shelves/{shelf}/refresh", { params: path(shelf), body: {} })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["refreshes", shelf] }),
  });
}

/** Evaluates the served version of a shelf on the test part of a run. */
export function useEvaluateShelf(shelf: string) {
  return useMutation({ mutationFn: (beside: string) => answer(http.POST("/v1/shelf-evaluations", { body: { shelf, beside } })) });
}

/** What came of an evaluation. */
export function useShelfEvaluation(job: number) {
  return useQuery({
    queryKey: ["shelf-evaluation", job],
    queryFn: () => answer(http.GET("/v1/shelf-evaluations/{job}", { params: { path: { job } } })),
    retry: false,
  });
}

/** Asks a shelf for a list, with reasons. */
export function fetchList(shelf: string, request: ListRequest): Promise<Answer> {
  return answer(http.POST("/v1/shelves/{shelf}/recommendations", { params: path(shelf), body: { ...request, explain: true, record: false } }));
}

/** A list of a shelf; `key` tells apart lists that are asked for from several places. */
export function useList(key: unknown[], shelf: string, request: ListRequest, enabled = true) {
  return useQuery({
    queryKey: [...key, request],
    queryFn: () => fetchList(shelf, request),
    enabled,
    retry: false,
    placeholderData: keepPreviousData,
  });
}
