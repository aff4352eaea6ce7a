import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { answer, http, type Schemas } from "./http";
import type { paths } from "./schema";

type JobKind = NonNullable<NonNullable<paths["/v1/jobs"]["get"]["parameters"]["query"]>["kind"]>;

export type Job = Schemas["Job"];
export type JobDetail = Schemas["JobDetail"];

const LISTED_EVERY_MS = 5_000;
const ROUNDS_EVERY_MS = 1_000;
const OPEN = ["queued", "running"];

/** Whether a job has not ended. */
export function isOpen(job: { state: string }): boolean {
  return OPEN.includes(job.state);
}

/** Brings everything on the page up to date when a job or a run ends while it is watched. work: what is watched. */
export function useUpdateAtEnd(work: { state: string } | undefined): void {
  const queries = useQueryClient();
  const wasOpen = useRef(false);
  const state = work?.state;
  useEffect(() => {
    if (state === undefined) return;
    const open = isOpen({ state });
    if (wasOpen.current && !open) void queries.invalidateQueries();
    wasOpen.current = open;
  }, [state, queries]);
}

/** The newest jobs, kept current. */
export function useJobs() {
  return useQuery({
    queryKey: ["jobs"],
    queryFn: () => answer(http.GET("/v1/jobs", { params: { query: { limit: 100 } } })),
    refetchInterval: LISTED_EVERY_MS,
  });
}

/** Jobs of one kind, newest first. */
export function useJobsOf(kind: JobKind) {
  return useQuery({
    queryKey: ["jobs", kind],
    queryFn: () => answer(http.GET("/v1/jobs", { params: { query: { limit: 100, kind } } })),
    refetchInterval: LISTED_EVERY_MS,
  });
}

/** One job, whose end updates the page; asked for again every so many milliseconds until it has ended, where `every` says so. */
export function useJob(id: number | null | undefined, every?: number) {
  const query = useQuery({
    queryKey: ["job", id],
    queryFn: () => answer(http.GET("/v1/jobs/{job}", { params: { path: { job: id ?? 0 } } })),
    enabled: id != null,
    refetchInterval: (query) => (every !== undefined && !(query.state.data && !isOpen(query.state.data)) ? every : false),
  });
  useUpdateAtEnd(query.data);
  return query;
}

/** The rounds of a job's fits so far; asked for again while it has not ended. */
export function useRounds(job: JobDetail) {
  return useQuery({
    queryKey: ["rounds", job.id],
    queryFn: () => answer(http.GET("/v1/jobs/{job}/rounds", { params: { path: { job: job.id } } })),
    refetchInterval: isOpen(job) ? ROUNDS_EVERY_MS : false,
  });
}

/** Cancels a job. */
export function useCancelJob() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (job: number) => answer(http.POST("/v1/jobs/{job}/cancel", { params: { path: { job } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: ["jobs"] }),
  });
}

/** Progress and log of a job as they come. */
export function jobEvents(job: number): EventSource {
  return new EventSource(`/v1/jobs/${job}/events`);
}
