import { Button, Progress, Textarea } from "@mantine/core";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { useBeginSplit, useSplitReport, type DatasetVersion } from "../../api/datasets";
import { type Schemas } from "../../api/http";
import { useJob } from "../../api/jobs";
import { FigureTable } from "../../parts/FigureTable";
import { count } from "../../parts/format";
import { Section } from "../../parts/page";
import { Failed } from "../../parts/states";

type Report = Schemas["DivideReport"];
type Part = Report["parts"][number];

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

function Divided({ report }: { report: Report }) {
  return (
    <>
      <p className="quiet">
        To train on: {count(report.users)} users, {count(report.items)} items, {count(report.cells)} cells.
        {Object.entries(report.left_out ?? {}).map(([why, rows]) => ` Left out: ${count(rows)} rows ${why}.`)}
      </p>
      <Section title="Steps">
        <FigureTable
          label="Steps"
          rows={report.steps}
          rowKey={(row) => row.name}
          columns={[
            { title: "step", value: (row) => row.name },
            { title: "rows in", number: true, value: (row) => row.rows_in, show: (row) => count(row.rows_in) },
            { title: "rows out", number: true, value: (row) => row.rows_out, show: (row) => count(row.rows_out) },
            { title: "what it did", value: (row) => row.note },
          ]}
        />
      </Section>
      <Section title="Parts">
        <FigureTable
          label="Parts"
          rows={report.parts}
          rowKey={partName}
          columns={[
            { title: "part", value: partName },
            { title: "rows", number: true, value: (row) => row.rows, show: (row) => count(row.rows) },
            { title: "users", number: true, value: (row) => row.users, show: (row) => count(row.users) },
            { title: "items", number: true, value: (row) => row.items, show: (row) => count(row.items) },
            { title: "unseen users", number: true, value: (row) => row.unseen_users ?? null, show: (row) => (row.unseen_users == null ? "" : count(row.unseen_users)) },
            { title: "unseen items", number: true, value: (row) => row.unseen_items ?? null, show: (row) => (row.unseen_items == null ? "" : count(row.unseen_items)) },
            { title: "leak check", value: (row) => row.leak?.verdict ?? null, show: (row) => <span className={row.leak?.leaks ? "warn" : undefined}>{row.leak?.verdict}</span> },
          ]}
        />
        <p className="quiet">Users and items that training never saw are left out of the figures, the same for every contender.</p>
      </Section>
    </>
  );
}

function partName(part: Part): string {
  return part.fold == null ? part.part : `${part.part} ${part.fold}`;
}
