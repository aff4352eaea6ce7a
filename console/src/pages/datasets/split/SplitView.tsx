import { Button, Progress, Textarea } from "@mantine/core";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { useBeginSplit, useSplitReport, type DatasetVersion } from "../../../api/datasets";
import { useJob } from "../../../api/jobs";
import { Section } from "../../../parts/page";
import { Failed } from "../../../parts/states";
import { Divided } from "./Divided";

function starter(version: DatasetVersion): string {
  const kinds = (version.profile.kinds ?? []).filter((each) => each.kind).map((each) => `${each.kind}: 1`);
  return [
    "prepare:",
    ...(kinds.length ? [`  kinds: {${kinds.join(", ")}}`] : []),
    "  merge: sum",
    "  min_user: 5",
    "  min_item: 5",
    version.profile.span ? "split: {by: time, test: 0.1, validation: 0.1}" : "split: {by: user_rows, test: 0.1, validation: 0.1}",
    "seed: 1",
  ].join("\n");
}

/** Prepare and split as declared, without training: what each step did, and what leaks. */
export function SplitView({ version }: { version: DatasetVersion }) {
  const [search, setSearch] = useSearchParams();
  const job = Number(search.get("job")) || null;
  const [text, setText] = useState(() => starter(version));
  const begin = useBeginSplit(version.name, (begun) => setSearch({ view: "split", job: String(begun.id) }));
  const run = useJob(job, 400);
  const done = run.data?.state === "done";
  const report = useSplitReport(job, done);
  const running = run.data && !["done", "failed", "cancelled"].includes(run.data.state);
  return (
    <>
      <Section title="Prepare and split">
        <Textarea aria-label="Preparation and split, YAML" autosize minRows={6} value={text} onChange={(event) => setText(event.currentTarget.value)} styles={{ input: { fontFamily: "var(--mantine-font-family-monospace)" } }} />
        <Button mt="xs" size="xs" loading={begin.isPending || running} onClick={() => begin.mutate(text)}>Try it</Button>
        {begin.error && <Failed error={begin.error} />}
        {running && <Progress mt="sm" size="sm" value={run.data.progress * 100} aria-label="Progress of the split" />}
        {run.error && <Failed error={run.error} />}
        {run.data?.problem && <Failed error={new Error(run.data.problem.detail)} />}
      </Section>
      {report.data && <Divided report={report.data} />}
    </>
  );
}
