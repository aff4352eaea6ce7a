import { Anchor, Button, Group, NumberInput } from "@mantine/core";
import { useState } from "react";
import { fileOfJob } from "../../../api/exports";
import { useAllAlike } from "../../../api/models";
import { JobProgress } from "../../../parts/jobs/JobProgress";
import { Failed } from "../../../parts/states";

const FIRST = 10;
const MOST = 1000;

/** What is most like each of them all, as one file. */
export function AllAlike({ model, side, where }: { model: string; side: "item" | "user"; where: string }) {
  const [n, setN] = useState(FIRST);
  const [job, setJob] = useState<number | null>(null);
  const [made, setMade] = useState<string | null>(null);
  const begin = useAllAlike(model, (begun) => setJob(begun.id));
  return (
    <>
      <Group align="end" gap="sm">
        <NumberInput size="xs" w={120} label={`Of each ${side} at most`} hideControls min={1} max={MOST} value={n} onChange={(value) => setN(Number(value) || FIRST)} />
        <Button size="xs" variant="default" loading={begin.isPending} onClick={() => { setMade(null); begin.mutate({ side, n, where }); }}>Every {side}, as a file</Button>
        {made !== null && job !== null && <span role="status" className="quiet">{made} <Anchor href={fileOfJob(job)} download>Fetch it</Anchor></span>}
      </Group>
      {begin.error && <Failed error={begin.error} title="This was refused" />}
      {job !== null && <JobProgress key={job} id={job} onDone={(done) => setMade(`${done.message}.`)} />}
    </>
  );
}
