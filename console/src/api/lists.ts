import { useMutation, useQuery } from "@tanstack/react-query";
import { answer, http, type Schemas } from "./http";

/** Lists that were scored or analysed beside a version. */
export function useListWork(data: string) {
  return useQuery({ queryKey: ["list work", data], queryFn: () => answer(http.GET("/v1/lists", { params: { query: { data, limit: 200 } } })) });
}

/** The scores of lists made elsewhere. */
export function useListScores(job: number) {
  return useQuery({ queryKey: ["list scores", job], queryFn: () => answer(http.GET("/v1/lists/scores/{job}", { params: { path: { job } } })) });
}

/** The analysis of lists. */
export function useListAnalysis(job: number) {
  return useQuery({ queryKey: ["list analysis", job], queryFn: () => answer(http.GET("/v1/lists/analyses/{job}", { params: { path: { job } } })) });
}

export interface ListsRead {
  columns: Partial<Record<"user" | "item" | "place" | "score", string>>;
  drop_known: boolean;
}

/** Begins to score lists made elsewhere, sent before, beside the contenders of a run. */
export function useScoreLists(beside: string, onBegun: (job: Schemas["Job"]) => void) {
  return useMutation({
    mutationFn: ({ upload, file, read }: { upload: string; file: string; read: ListsRead }) => {
      const columns = { user: "user", item: "item", ...read.columns };
      return answer(http.POST("/v1/lists/scores", { body: { upload, file, beside, label: labelOf(file), columns, drop_known: read.drop_known } }));
    },
    onSuccess: onBegun,
  });
}

/** What lists are called: as their file, in small letters. */
function labelOf(file: string): string {
  return (file.split(".")[0] ?? "").toLowerCase().replaceAll(/[^a-z0-9_-]+/g, "-").replaceAll(/^[^a-z0-9]+|-+$/g, "").slice(0, 60) || "lists";
}

export interface AnalysisSettings {
  n: number;
  expected_n: number;
  kernel: "linear" | "rbf" | "polynomial" | "sigmoid" | "cosine";
  content: string[];
}

/** Begins to analyse the lists of a model beside a run. */
export function useAnalyseLists(beside: string) {
  return useMutation({
    mutationFn: ({ model, how }: { model: string; how: AnalysisSettings }) =>
      answer(http.POST("/v1/lists/analyses", { body: { model, beside, ...how, content: how.content.length > 0 ? how.content : null } })),
  });
}
