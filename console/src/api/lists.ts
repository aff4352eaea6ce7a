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
    mutationFn: ({ upload, file, read }: { upload: string; file: string; read: ListsRead }) =>
      answer(http.POST("/v1/lists/scores", { body: { upload, file, beside, label: labelOf(file), columns: columnsOf(read), drop_known: read.drop_known } })),
    onSuccess: onBegun,
  });
}

function columnsOf(read: ListsRead) {
  return { user: "user", item: "item", ...read.columns };
}

/** What lists are called: as their file, in small letters. */
function labelOf(file: string): string {
  return (file.split(".")[0] ?? "").toLowerCase().replaceAll(/[^a-z0-9_-]+/g, "-").replaceAll(/^[^a-z0-9]+|-+$/g, "").slice(0, 60) || "lists";
}

/** By what lists are analysed. */
export interface Analysis {
  n: number;
  expected_n: number;
  kernel: "linear" | "rbf" | "polynomial" | "sigmoid" | "cosine";
  content: string[];
}

/** Whose lists are analysed: a model's, or those of a file sent before. */
export type Analysed = { model: string } | { upload: string; file: string; read: ListsRead };

/** Begins to analyse lists beside a run. */
export function useAnalyseLists(beside: string, onBegun?: (job: Schemas["Job"]) => void) {
  return useMutation({
    mutationFn: ({ lists, how }: { lists: Analysed; how: Analysis }) => {
      const whose = "model" in lists ? lists : { upload: lists.upload, file: lists.file, columns: columnsOf(lists.read) };
      return answer(http.POST("/v1/lists/analyses", { body: { ...whose, beside, ...how, content: how.content.length > 0 ? how.content : null } }));
    },
    onSuccess: onBegun,
  });
}
