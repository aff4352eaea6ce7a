import type { Job } from "../../api/jobs";
import { JobBar } from "../../parts/jobs/JobBar";
import { Section } from "../../parts/page";

/** Jobs that run or wait. */
export function RunningJobs({ title, jobs }: { title: string; jobs: Job[] }) {
  return (
    <Section title={title}>
      {jobs.length === 0 && <p className="quiet">Nothing runs and nothing waits.</p>}
      {jobs.map((job) => <JobBar key={job.id} job={job} />)}
    </Section>
  );
}
