import { isOpen, jobEvents, type Job } from "../../api/jobs";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

/** Seconds between start and end, or null where it never began. */
export function took(job: Job): number | null {
  if (!job.started_at || !job.finished_at) return null;
  return (Date.parse(job.finished_at) - Date.parse(job.started_at)) / 1000;
}

/** A list of jobs with one of them replaced. */
export function replaced(jobs: Job[], changed: Job): Job[] {
  return jobs.map((job) => (job.id === changed.id ? changed : job));
}

/** A browser holds six connections to one host; streams must leave room for the calls beside them. */
const MOST_STREAMS = 3;

/** The jobs to follow by a stream: those that run first, then those that will run next (ids are given in order). */
export function followed(jobs: Job[]): Job[] {
  const running = jobs.filter((job) => job.state === "running");
  const queued = jobs.filter((job) => job.state === "queued").sort((one, other) => one.id - other.id);
  return [...running, ...queued].slice(0, MOST_STREAMS);
}

/** Follows the jobs that run by their event streams, and keeps the list of jobs current. */
export function useLiveJobs(jobs: Job[]): void {
  const queries = useQueryClient();
  const open = followed(jobs).map((job) => job.id).join(",");
  useEffect(() => {
    if (!open) return;
    const streams = open.split(",").map((id) => {
      const stream = jobEvents(Number(id));
      stream.addEventListener("job", (event) => {
        const changed = JSON.parse(event.data) as Job;
        queries.setQueryData<{ items: Job[] }>(["jobs"], (page) => page && { ...page, items: replaced(page.items, changed) });
        void queries.invalidateQueries({ queryKey: ["job", changed.id] });
        if (!isOpen(changed)) stream.close();
      });
      return stream;
    });
    return () => streams.forEach((stream) => stream.close());
  }, [open, queries]);
}
