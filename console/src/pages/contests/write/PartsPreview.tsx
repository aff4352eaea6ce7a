import { Button, Group } from "@mantine/core";
import { useEffect, useState } from "react";
import { useBeginSplit, useSplitReport, type DatasetVersion } from "../../../api/datasets";
import { useCancelJob, useJob } from "../../../api/jobs";
import { JobProgress } from "../../../parts/jobs/JobProgress";
import { Failed } from "../../../parts/states";
import { Divided } from "../../datasets/split/Divided";

const COUNTED_AT_ONCE = 2_000_000;

/** What the preparation keeps at each step and what each part holds: counted anew as the file changes, where the data is
 * small enough for that, and at a button otherwise. */
export function PartsPreview({ version, division, wrong }: { version: DatasetVersion; division: string; wrong: boolean }) {
  const [job, setJob] = useState<number | null>(null);
  const [counted, setCounted] = useState("");
  const begin = useBeginSplit(version.name, (begun) => setJob(begun.id));
  const cancel = useCancelJob();
  const state = useJob(job).data?.state;
  const report = useSplitReport(job, state === "done");
  const count = () => {
    if (job !== null && (state === "queued" || state === "running")) cancel.mutate(job);
    setCounted(division);
    begin.mutate(division);
  };
  const stale = counted !== division;
  const atOnce = version.rows <= COUNTED_AT_ONCE;
  useEffect(() => {
    if (!atOnce || wrong || !stale) return;
    const wait = setTimeout(count, 800);
    return () => clearTimeout(wait);
  });
  return (
    <>
      {!atOnce && (
        <Group gap="sm">
          <Button size="compact-xs" variant="default" disabled={wrong || !stale} onClick={count}>Count the rows of each step and part</Button>
          {stale && report.data && <span className="quiet">The figures below are of the file as it was.</span>}
        </Group>
      )}
      {begin.error && <Failed error={begin.error} title="This cannot be divided so" />}
      {job !== null && <JobProgress id={job} />}
      {report.data && <Divided report={report.data} />}
    </>
  );
}
