import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, http, versionPath, type Schemas } from "./http";
import { isOpen, useUpdateAtEnd } from "./jobs";

export type Run = Schemas["Run"];
export type RunSummary = Schemas["RunSummary"];
export type Standing = Schemas["Standing"];
export type MetricFacts = Schemas["MetricFacts"];
export type ScoredPart = Schemas["Figure"]["part"];

const path = (run: string) => ({ path: { run } });

/** Every run, newest first. */
export function useRuns() {
  return useQuery({ queryKey: ["runs"], queryFn: () => answer(http.GET("/v1/contests", { params: { query: { limit: 200 } } })) });
}

/** One run; contenders appear one by one while it goes on, and its end updates the page. */
export function useRun(name: string) {
  const query = useQuery({
    queryKey: ["run", name],
    queryFn: () => answer(http.GET("/v1/contests/{run}", { params: path(name) })),
    refetchInterval: (query) => (query.state.data && isOpen(query.state.data) ? 1_000 : false),
  });
  useUpdateAtEnd(query.data);
  return query;
}

/** A contest file fitted to a version of the data. */
export function useContestDraft(data: string) {
  return useQuery({
    queryKey: ["contest-draft", data],
    queryFn: () => answer(http.GET("/v1/datasets/{name}/versions/{number}/contest-file", { params: { path: versionPath(data) } })),
    staleTime: Infinity,
  });
}

/** The mistakes of a contest file, or what running it will take. */
export function useContestCheck(file: string) {
  return useQuery({
    queryKey: ["contest-check", file],
    queryFn: () => answer(http.POST("/v1/contests/check", { body: { file, name: "contest.yaml" } })),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** Runs a contest file. */
export function useBeginContest(onBegun: (run: Run) => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (file: string) => answer(http.POST("/v1/contests", { body: { file, name: "contest.yaml" } })) as Promise<Run>,
    onSuccess: (run) => {
      void queries.invalidateQueries({ queryKey: ["runs"] });
      onBegun(run);
    },
  });
}

/** Every family of models, with its parameters. */
export function useFamilies() {
  return useQuery({ queryKey: ["families"], queryFn: () => answer(http.GET("/v1/families")), staleTime: Infinity });
}

/** Every metric, and what it says. */
export function useMetrics() {
  return useQuery({ queryKey: ["metrics"], queryFn: () => answer(http.GET("/v1/metrics")), staleTime: Infinity });
}

/** Every pair of contenders on a metric. */
export function useComparison(run: string, metric: string) {
  return useQuery({
    queryKey: ["comparison", run, metric],
    queryFn: () => answer(http.GET("/v1/contests/{run}/comparison", { params: { ...path(run), query: { metric } } })),
    retry: false,
  });
}

/** Predicted values beside the held-out ones. */
export function useRunValues(run: string, part: ScoredPart) {
  return useQuery({
    queryKey: ["values", run, part],
    queryFn: () => answer(http.GET("/v1/contests/{run}/values", { params: { ...path(run), query: { part } } })),
    retry: false,
  });
}

/** What the chances of contenders came to on the test part. */
export function useRunLikelihoods(run: string) {
  return useQuery({
    queryKey: ["likelihoods", run],
    queryFn: () => answer(http.GET("/v1/contests/{run}/likelihoods", { params: path(run) })),
    retry: false,
  });
}

/** What the shelves that a contest names came to, once all is done. */
export function useRunShelves(run: Run) {
  return useQuery({
    queryKey: ["run shelves", run.name, run.state],
    queryFn: () => answer(http.GET("/v1/contests/{run}/shelves", { params: path(run.name) })),
    enabled: !!run.winner && !!run.spec.shelves?.length,
  });
}

/** A metric by segments of users or items. */
export function useSegments(run: Run, by: string, metric: string, part: ScoredPart) {
  return useQuery({
    queryKey: ["segments", run.name, by, metric, part],
    queryFn: () => answer(http.GET("/v1/contests/{run}/segments", { params: { ...path(run.name), query: { by, metric, part } } })),
    enabled: !!run.standings?.length,
    retry: false,
  });
}

/** The searches of a run's tuned contenders, asked for again as each is done. */
export function useTuning(run: Run, tuned: boolean) {
  return useQuery({
    queryKey: ["tuning", run.name, run.standings?.length],
    queryFn: () => answer(http.GET("/v1/contests/{run}/tuning", { params: path(run.name) })),
    enabled: tuned,
  });
}

/** Learning curves, asked for again as each contender is done. */
export function useCurves(run: Run) {
  return useQuery({
    queryKey: ["curves", run.name, run.standings?.length],
    queryFn: () => answer(http.GET("/v1/contests/{run}/curves", { params: path(run.name) })),
    enabled: (run.standings?.length ?? 0) > 0,
  });
}

/** Which contender to release, weighed against something. */
export function useReleaseChoice(run: string, against: string) {
  return useQuery({
    queryKey: ["choice", run, against],
    queryFn: () => answer(http.GET("/v1/contests/{run}/choice", { params: { ...path(run), query: { against } } })),
    retry: false,
  });
}

/** Do metrics rank the users of a contender alike. */
export function useAgreement(run: string, contender: string, part: ScoredPart) {
  return useQuery({
    queryKey: ["agreement", run, contender, part],
    queryFn: () => answer(http.GET("/v1/contests/{run}/agreement", { params: { ...path(run), query: { contender, part } } })),
    retry: false,
  });
}

/** Fits a contender on everything, for release. */
export function useRelease(run: string) {
  return useMutation({
    mutationFn: (contender: string) => answer(http.POST("/v1/contests/{run}/release", { params: path(run), body: { contender } })),
  });
}

/** Where the report of a run can be fetched. */
export function reportFile(run: string, form: "html" | "markdown" | "zip"): string {
  return `/v1/contests/${encodeURIComponent(run)}/report?form=${form}`;
}
