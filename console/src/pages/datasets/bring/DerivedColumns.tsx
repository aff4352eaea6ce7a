import { Button, Group, Select, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useState } from "react";
import { problemAt, type FieldProblem } from "../../../parts/files/yamlFile";
import { useProposal, type Derive, type FileProposal, type Source } from "../../../api/imports";

type Kind = "split" | "pull" | "time" | "join";

const KINDS: { value: Kind; label: string }[] = [
  { value: "split", label: "cut at a separator" },
  { value: "pull", label: "take out by a pattern" },
  { value: "time", label: "read as times" },
  { value: "join", label: "add from a table to join" },
];
const LABELS: Record<Kind, [string, string]> = {
  split: ["Separator", "New columns, with commas"],
  pull: ["Pattern, its groups in ( )", "New columns, with commas"],
  time: ["Written as, such as %d.%m.%Y", "Time zone of times that name none"],
  join: ["Its column with the same ids", "Columns to add, with commas; empty: all"],
};

/** What a step does, in a line. */
export function described(step: Derive): string {
  if (step.split != null) return `${step.split} cut at "${step.by}" into ${(step.into ?? []).join(", ")}`;
  if (step.pull != null) return `${(step.into ?? []).join(", ")} taken out of ${step.pull} by ${step.pattern}`;
  if (step.time != null) return `${step.time} read as times${step.format ? ` written as ${step.format}` : ""}${step.zone ? `, in ${step.zone}` : ""}`;
  return `${(step.take ?? []).join(", ") || "all columns"} of ${step.join} added where its ${step.key ?? step.on} is the ${step.on}`;
}

interface DerivedProps {
  file: FileProposal;
  source: Source;
  /** Tables that can be joined. */
  tables: Record<string, Source>;
  /** Steps that could not be done. */
  problems: FieldProblem[];
  onChange: (source: Source) => void;
}

/** Steps that make columns out of others, each with a way to take it away, and a new one with what it would make. */
export function DerivedColumns({ file, source, tables, problems, onChange }: DerivedProps) {
  const steps = source.derive ?? [];
  const [adding, setAdding] = useState(false);
  return (
    <div>
      {steps.map((step, place) => (
        <Group key={described(step)} gap="xs">
          <span>{described(step)}</span>
          <Button size="compact-xs" variant="subtle" onClick={() => onChange({ ...source, derive: steps.filter((_, other) => other !== place) })}>Remove</Button>
          <StepProblem problem={problemAt(problems, [file.part, "derive", place])} />
        </Group>
      ))}
      {adding ? (
        <NewStep file={file} source={source} tables={tables} onAdd={(step) => { onChange({ ...source, derive: [...steps, step] }); setAdding(false); }} onStop={() => setAdding(false)} />
      ) : (
        <Button size="compact-xs" variant="default" onClick={() => setAdding(true)}>Make a column out of another</Button>
      )}
    </div>
  );
}

function StepProblem({ problem }: { problem: string | undefined }) {
  return problem === undefined ? null : <span className="warn" role="alert">{problem}</span>;
}

function stepOf(kind: Kind, column: string, how: string, into: string, table: string): Derive | null {
  const names = into.split(",").map((each) => each.trim()).filter(Boolean);
  if (kind === "time") return column ? { time: column, format: how || null, zone: into || null } : null;
  if (kind === "join") return column && table ? { join: table, on: column, key: how || null, take: names } : null;
  if (!column || !how || names.length === 0) return null;
  return kind === "split" ? { split: column, by: how, into: names } : { pull: column, pattern: how, into: names };
}

type NewStepProps = Omit<DerivedProps, "onChange" | "problems"> & { onAdd: (step: Derive) => void; onStop: () => void };

function NewStep({ file, source, tables, onAdd, onStop }: NewStepProps) {
  const [kind, setKind] = useState<Kind>("split");
  const [column, setColumn] = useState("");
  const [how, setHow] = useState("");
  const [into, setInto] = useState("");
  const [table, setTable] = useState(Object.keys(tables)[0] ?? "");
  const step = stepOf(kind, column, how, into, table);
  const [settled] = useDebouncedValue(JSON.stringify(step), 300);
  const tried = JSON.parse(settled) as Derive | null;
  const preview = useProposal(tried && { interactions: { ...source, derive: [...(source.derive ?? []), tried] }, tables });
  const wrong = tried ? (preview.error?.message ?? preview.data?.problems?.[0]?.message) : undefined;
  const before = file.columns.map((each) => each.column);
  const columns = (preview.data?.files[0]?.columns ?? []).filter((each) => (tried?.time != null ? each.column === tried.time : !before.includes(each.column)));
  const [howLabel, intoLabel] = LABELS[kind];
  return (
    <fieldset className="new-step" aria-label="A new column">
      <Group gap="xs" align="end">
        <Select size="xs" w={170} label="How" data={KINDS.filter((each) => each.value !== "join" || Object.keys(tables).length > 0)} value={kind} allowDeselect={false} onChange={(value) => value && setKind(value as Kind)} />
        <Select size="xs" w={150} label="Column" searchable data={file.columns.map((each) => each.column)} value={column || null} onChange={(value) => setColumn(value ?? "")} />
        <TextInput size="xs" w={190} label={howLabel} value={how} onChange={(event) => setHow(event.currentTarget.value)} />
        <TextInput size="xs" w={200} label={intoLabel} value={into} onChange={(event) => setInto(event.currentTarget.value)} />
        {kind === "join" && <Select size="xs" w={150} label="Table" allowDeselect={false} data={Object.keys(tables)} value={table} onChange={(value) => setTable(value ?? "")} />}
        <Button size="xs" disabled={!step} onClick={() => step && onAdd(step)}>Add</Button>
        <Button size="xs" variant="default" onClick={onStop}>Not now</Button>
      </Group>
      <div role="status" className="quiet">
        {wrong && <span className="warn">{wrong}</span>}
        {tried && !wrong && columns.map((each) => <div key={each.column}>{each.column}: {(each.examples ?? []).join(", ") || "nothing"}</div>)}
      </div>
    </fieldset>
  );
}
