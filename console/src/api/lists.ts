import { useMutation, useQuery } from "@tanstack/react-query";
import { answer, http } from "./http";

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

/** Begins to analyse the lists of a model beside a run. */
export function useAnalyseLists(beside: string) {
  return useMutation({ mutationFn: (model: string) => answer(http.POST("/v1/lists/analyses", { body: { model, beside } })) });
}
