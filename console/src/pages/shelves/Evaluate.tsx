import { Anchor, Button, Progress, Select } from "@mantine/core";
import { useEffect } from "react";
import { Link } from "react-router";
import { useRuns } from "../../api/contests";
import { isOpen, useJob } from "../../api/jobs";
import { useEvaluateShelf, type ShelfVersion } from "../../api/shelves";
import { Opened } from "../../parts/Opened";
import { Section } from "../../parts/page";
import { useSearch } from "../../parts/search";
import { Failed } from "../../parts/states";
import { EvaluationView } from "./EvaluationView";

const LOOK_MS = 500;

/** What the shelf is worth on the test part of a run: stage by stage, and beside the run's contenders. */
export function Evaluate({ shelf }: { shelf: ShelfVersion }) {
  const [search, choose] = useSearch();
  const runs = useRuns();
  const dataset = shelf.data.split("@")[0];
  const names = (runs.data?.items ?? []).filter((run) => run.winner && run.data.split("@")[0] === dataset).map((run) => run.name);
  const beside = names.find((each) => each === search.get("run")) ?? names[0];
  const begin = useEvaluateShelf(shelf.name);
  const id = begin.data?.id;
  const job = useJob(id, LOOK_MS);
  const state = job.data?.state;
  useEffect(() => {
    if (state !== "done" || id === undefined) return;
    choose("evaluation", String(id));
    begin.reset();
  });
  if (!beside) return null;
  const busy = begin.isPending || (job.data ? isOpen(job.data) : id !== undefined);
  const shown = Number(search.get("evaluation"));
  return (
    <Section
      title="What it is worth"
      side={
        <>
          <Select
            aria-label="Run on whose test part the shelf is evaluated" size="xs" w={220} data={names} value={beside} allowDeselect={false} searchable
            onChange={(value) => value && choose("run", value)}
          />
          <Button size="compact-xs" variant="default" disabled={busy} onClick={() => begin.mutate(beside)}>Evaluate {shelf.name}</Button>
          {busy && <Progress value={(job.data?.progress ?? 0) * 100} w={90} size="sm" aria-label="Progress of the evaluation" />}
          {busy && id !== undefined && <Anchor component={Link} to={`/jobs/${id}`} size="sm">job {id}</Anchor>}
        </>
      }
    >
      {begin.error && <Failed error={begin.error} />}
      {job.data?.problem && <p className="warn">{job.data.problem.detail}</p>}
      {shown > 0 ? <Opened id={shown}><EvaluationView job={shown} /></Opened> : <p className="quiet">Its models are fitted on what the test part of the run leaves, and it lists for the users of that part.</p>}
    </Section>
  );
}
