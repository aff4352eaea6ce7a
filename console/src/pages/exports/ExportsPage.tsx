import { Anchor } from "@mantine/core";
import { Link } from "react-router";
import { fileOfJob } from "../../api/exports";
import { useJobsOf, isOpen } from "../../api/jobs";
import { FigureTable } from "../../parts/FigureTable";
import { moment } from "../../parts/format";
import { PageTitle, Section } from "../../parts/page";
import { Loaded } from "../../parts/states";
import { RunningJobs } from "../jobs/RunningJobs";
import { MakeExport } from "./MakeExport";

/** Files and tables for other systems: make one, follow it, fetch it. */
export default function ExportsPage() {
  const jobs = useJobsOf("export");
  return (
    <>
      <PageTitle title="Exports" />
      <Section title="Make one"><MakeExport /></Section>
      <Loaded query={jobs}>
        {({ items: exports }) => {
          const ended = exports.filter((each) => !isOpen(each));
          return (
            <>
              {exports.some(isOpen) && <RunningJobs title="At work" jobs={exports.filter(isOpen)} />}
              <Section title="Made">
                {ended.length === 0 && <p className="quiet">Nothing has been exported yet.</p>}
                {ended.length > 0 && (
                  <FigureTable
                    label="Exports"
                    rows={ended}
                    rowKey={(row) => String(row.id)}
                    columns={[
                      { title: "of", value: (row) => row.subject },
                      { title: "ended", value: (row) => row.finished_at ?? null, show: (row) => (row.finished_at ? moment(row.finished_at) : "") },
                      { title: "came to", value: (row) => row.problem?.detail ?? row.message ?? "", show: (row) => <span className={row.state === "failed" ? "warn" : undefined}>{row.problem?.detail ?? row.message}</span> },
                      { title: "file", value: (row) => row.state, show: (row) => (row.state === "done" && row.result?.file ? <Anchor href={fileOfJob(row.id)} download>fetch</Anchor> : "") },
                      { title: "job", number: true, value: (row) => row.id, show: (row) => <Anchor component={Link} to={`/jobs/${row.id}`}>{row.id}</Anchor> },
                    ]}
                  />
                )}
              </Section>
            </>
          );
        }}
      </Loaded>
    </>
  );
}
