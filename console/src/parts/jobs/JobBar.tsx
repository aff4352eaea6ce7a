import { Anchor, Button, Progress } from "@mantine/core";
import { Link } from "react-router";
import { useCancelJob, type Job } from "../../api/jobs";
import { duration } from "../format";

/** How far a job is that runs or waits, with a way to stop it. */
export function JobBar({ job }: { job: Job }) {
  const cancel = useCancelJob();
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
        <Button size="compact-xs" variant="default" disabled={job.cancel_requested} onClick={() => cancel.mutate(job.id)}>
          {job.cancel_requested ? "Stopping" : "Cancel"}
        </Button>
      </div>
      <Progress value={job.progress * 100} aria-label={`Progress of job ${job.id}`} size="sm" />
    </div>
  );
}
