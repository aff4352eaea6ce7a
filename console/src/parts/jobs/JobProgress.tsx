import { useEffect, useRef } from "react";
import { isOpen, useJob, type JobDetail } from "../../api/jobs";
import { JobBar } from "./JobBar";

const EVERY_MS = 500;

/** How far a job is; why it failed, where it did. `onDone` is called once, when it ended well. */
export function JobProgress({ id, onDone }: { id: number; onDone?: (job: JobDetail) => void }) {
  const job = useJob(id, EVERY_MS).data;
  const told = useRef<number | null>(null);
  useEffect(() => {
    if (job?.state === "done" && told.current !== id) {
      told.current = id;
      onDone?.(job);
    }
  }, [job, id, onDone]);
  if (!job) return null;
  if (isOpen(job)) return <JobBar job={job} />;
  if (job.state === "done") return null;
  return <p className="warn" role="alert">{job.problem?.detail ?? `Job ${id} was ${job.state}.`}</p>;
}
