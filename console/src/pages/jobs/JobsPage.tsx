import { Anchor, Button } from "@mantine/core";
import { Link, useParams } from "react-router";
import { isOpen, useJobs, type Job } from "../../api/jobs";
import { FigureTable } from "../../parts/FigureTable";
import { duration, moment } from "../../parts/format";
import { PageTitle, Section } from "../../parts/page";
import { Loaded, Empty } from "../../parts/states";
import { JobView } from "./JobView";
import { RunningJobs } from "./RunningJobs";
import { took, useLiveJobs } from "./live";

/** Running work with its progress, finished work with its cost. */
export default function JobsPage() {
  const { job } = useParams();
  const jobs = useJobs();
  useLiveJobs(jobs.data?.items ?? []);
  return (
    <>
      <PageTitle title="Jobs" />
      <Loaded query={jobs}>
        {({ items }) =>
          items.length ? (
            <>
              <RunningJobs title="Open" jobs={items.filter(isOpen)} />
              {job && <JobView id={Number(job)} />}
              <Finished jobs={items.filter((each) => !isOpen(each))} />
            </>
          ) : (
            <Empty what="No work yet. Bringing data in makes the first job.">
              <Button component={Link} to="/data/new" size="xs">Bring data in</Button>
            </Empty>
          )
        }
      </Loaded>
    </>
  );
}

function Finished({ jobs }: { jobs: Job[] }) {
  return (
    <Section title="Ended">
      <FigureTable
        label="Ended jobs"
        rows={jobs}
        rowKey={(row) => String(row.id)}
        columns={[
          { title: "job", number: true, value: (row) => row.id, show: (row) => <Anchor component={Link} to={`/jobs/${row.id}`}>{row.id}</Anchor> },
          { title: "what", value: (row) => `${row.kind} ${row.subject}` },
          { title: "state", value: (row) => row.state, show: (row) => <span className={row.state === "failed" ? "warn" : undefined}>{row.state}</span> },
          { title: "ended", value: (row) => row.finished_at ?? null, show: (row) => (row.finished_at ? moment(row.finished_at) : "") },
          { title: "took", number: true, value: (row) => took(row), show: (row) => duration(took(row) ?? 0) },
          { title: "memory", number: true, value: (row) => row.peak_memory_mb ?? null, show: (row) => (row.peak_memory_mb ? `${row.peak_memory_mb.toFixed(0)} MB` : "") },
          { title: "outcome", value: (row) => row.problem?.detail ?? row.message ?? "" },
        ]}
      />
    </Section>
  );
}
