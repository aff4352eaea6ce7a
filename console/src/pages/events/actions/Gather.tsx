import { Anchor, Button } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { useGather } from "../../../api/events";
import type { Schemas } from "../../../api/http";
import { Confirm } from "../../../parts/Confirm";
import { count } from "../../../parts/format";
import { JobProgress } from "../../../parts/jobs/JobProgress";
import { Failed } from "../../../parts/states";

/** Makes the next version of the dataset out of its newest and what came since. */
export function Gather({ live }: { live: Schemas["LiveState"] }) {
  const queries = useQueryClient();
  const [asked, setAsked] = useState(false);
  const [job, setJob] = useState<number | null>(null);
  const [made, setMade] = useState<Schemas["JobDetail"] | null>(null);
  const name = live.version.split("@")[0] ?? "";
  const gather = useGather(name, (begun) => setJob(begun.id));
  const done = (ended: Schemas["JobDetail"]) => {
    setMade(ended);
    void queries.invalidateQueries({ queryKey: ["datasets"] });
    void queries.invalidateQueries({ queryKey: ["live", name] });
  };
  return (
    <>
      <Button size="xs" variant="default" onClick={() => setAsked(true)}>Make the next version of {name}</Button>
      {gather.error && <Failed error={gather.error} title="This was refused" />}
      {job !== null && <JobProgress key={job} id={job} onDone={done} />}
      {made && <Made job={made} />}
      {asked && (
        <Confirm title={`Make the next version of ${name}?`} action="Make it" busy={gather.isPending} onConfirm={() => { setAsked(false); setMade(null); gather.mutate(); }} onClose={() => setAsked(false)}>
          It has the rows of {live.version} and what came since (events: {count(live.events)}; rows with changed columns: {count(live.changed_rows)}). Models and shelves stay as they are until they are refreshed.
          {live.events + live.changed_rows === 0 && " As nothing came, none is made."}
        </Confirm>
      )}
    </>
  );
}

/** What came of it: where nothing came since, no version is made. */
function Made({ job }: { job: Schemas["JobDetail"] }) {
  const version = String(job.result?.["version"] ?? "");
  return (
    <p role="status" className="quiet">
      {job.result?.["events"] || job.result?.["changed_rows"] ? <><Anchor component={Link} to={`/data/${version}`}>{version}</Anchor> is made.</> : `None is made: ${job.message}.`}
    </p>
  );
}
