import { Anchor, Button, Progress } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";
import { useCancelJob, type Job } from "../../api/jobs";
import { Confirm } from "../Confirm";
import { duration } from "../format";
import { Failed } from "../states";

/** What stays of a job that is cancelled, by its kind. */
const LEFT_BY: Partial<Record<Job["kind"], string>> = {
  contest: "Contenders that are done keep their figures and models; the others leave none.",
};

/** How far a job is that runs or waits, with a way to stop it. */
export function JobBar({ job }: { job: Job }) {
  const cancel = useCancelJob();
  const [asked, setAsked] = useState(false);
  const close = () => setAsked(false);
  return (
    <div style={{ marginTop: 12 }}>
      <div className="section-head" style={{ marginBottom: 4 }}>
        <span>
          <Anchor component={Link} to={`/jobs/${job.id}`}>{job.kind} {job.subject}</Anchor>{" "}
          <span className="quiet">
            job {job.id}, {job.state}{job.message && `: ${job.message}`}
            {job.seconds_left != null && `; about ${duration(job.seconds_left)} left`}
          </span>
        </span>
        <Button size="compact-xs" variant="default" disabled={job.cancel_requested} onClick={() => setAsked(true)}>
          {job.cancel_requested ? "Stopping" : "Cancel"}
        </Button>
      </div>
      <Progress value={job.progress * 100} aria-label={`Progress of job ${job.id}`} size="sm" />
      {cancel.error && <Failed error={cancel.error} title="This was refused" />}
      {asked && (
        <Confirm title={`Cancel job ${job.id}?`} action="Cancel the job" busy={cancel.isPending} onConfirm={() => { close(); cancel.mutate(job.id); }} onClose={close}>
          {job.kind} {job.subject} stops. {LEFT_BY[job.kind] ?? "Nothing of it is kept."}
        </Confirm>
      )}
    </div>
  );
}
