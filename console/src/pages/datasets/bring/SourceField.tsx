import { Button, Group, Progress, TextInput, UnstyledButton } from "@mantine/core";
import { useRef, useState, type DragEvent } from "react";
import { sendFile, type Source } from "../../../api/imports";
import { Failed } from "../../../parts/states";
import type { FieldProblem } from "../../../parts/files/yamlFile";
import { HowRead } from "./HowRead";
import type { SourcePlace } from "./importDraft";

const WHAT: Record<SourcePlace | "training" | "joined", { title: string; holds: string }> = {
  training: { title: "Training", holds: "the rows that models learn from" },
  validation: { title: "Validation", holds: "the rows that settings are chosen on; can be left out" },
  test: { title: "Test", holds: "the rows that figures are of" },
  joined: { title: "A table to join", holds: "its columns are added to those of another table" },
  interactions: { title: "Interactions", holds: "One row per interaction" },
  items: { title: "Items", holds: "One row each with its columns (optional)" },
  users: { title: "Users", holds: "One row each with its columns (optional)" },
};

interface Props {
  table: keyof typeof WHAT;
  source: Source | undefined;
  /** What is wrong with the file, as far as it is not one of its steps. */
  problems: FieldProblem[];
  onChange: (source: Source | undefined) => void;
}

/** Where the rows of one table come from: a file that is dropped or chosen, a URL, or a database. */
export function SourceField({ table, source, problems, onChange }: Props) {
  const { title, holds } = WHAT[table];
  return (
    <section className="source-field" aria-label={title}>
      <h2>{title}</h2>
      <p className="quiet">{holds}</p>
      {source ? <><Given source={source} onRemove={() => onChange(undefined)} /><HowRead source={source} rows={table === "interactions" || table === "training"} onChange={onChange} /></> : <Open title={title} onChange={onChange} />}
      {source && problems.filter((each) => !each.field.includes(".derive")).map((each) => <p key={each.message} className="warn" role="alert">{each.message}</p>)}
    </section>
  );
}

function Given({ source, onRemove }: { source: Source; onRemove: () => void }) {
  return (
    <Group gap="xs" justify="space-between">
      <span>
        <strong>{source.file}</strong>
        {source.url && <span className="quiet"> {source.url}{source.table && `, table ${source.table}`}</span>}
      </span>
      <Button size="compact-xs" variant="default" onClick={onRemove}>Replace file</Button>
    </Group>
  );
}

function Open({ title, onChange }: { title: string; onChange: (source: Source) => void }) {
  const [sent, setSent] = useState<number | null>(null);
  const [error, setError] = useState<Error | null>(null);
  const [over, setOver] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const take = async (file: File | undefined) => {
    if (!file) return;
    setError(null);
    setSent(0);
    try {
      const upload = await sendFile(file, setSent);
      onChange({ upload: upload.upload, file: file.name });
    } catch (refused) {
      setError(refused as Error);
    } finally {
      setSent(null);
    }
  };
  const drop = (event: DragEvent) => {
    event.preventDefault();
    setOver(false);
    void take(event.dataTransfer.files[0]);
  };
  return (
    <>
      <UnstyledButton
        className="drop" data-over={over || undefined}
        onClick={() => input.current?.click()} onDrop={drop}
        onDragOver={(event) => { event.preventDefault(); setOver(true); }} onDragLeave={() => setOver(false)}
      >
        Drop a file here, or choose one
        <span className="quiet">CSV, TSV, Parquet, Arrow, NDJSON, JSON or XLSX; gzip and zstd too</span>
      </UnstyledButton>
      <input ref={input} type="file" hidden aria-label={`File of ${title.toLowerCase()}`} onChange={(event) => void take(event.currentTarget.files?.[0])} />
      {sent !== null && <Progress value={sent * 100} size="sm" mt="xs" aria-label={`Sending ${title.toLowerCase()}`} />}
      {error && <Failed error={error} />}
      <Elsewhere title={title} onChange={onChange} />
    </>
  );
}

/** A URL, or a database with the table in it. */
function Elsewhere({ title, onChange }: { title: string; onChange: (source: Source) => void }) {
  const [url, setUrl] = useState("");
  const [table, setTable] = useState("");
  const database = url.startsWith("postgresql:");
  const file = decodeURIComponent(url.split(/[?#]/)[0]?.split("/").at(-1) ?? "") || title.toLowerCase();
  return (
    <form
      className="elsewhere"
      onSubmit={(event) => {
        event.preventDefault();
        onChange(database ? { url, file: table, table } : { url, file });
      }}
    >
      <TextInput size="xs" label="or a URL, or a database (postgresql://...)" value={url} onChange={(event) => setUrl(event.currentTarget.value)} />
      {database && <TextInput size="xs" label="Table of the database" value={table} onChange={(event) => setTable(event.currentTarget.value)} />}
      {url && <Button type="submit" size="compact-xs" variant="default" disabled={database && !table} mt={4}>Look into it</Button>}
    </form>
  );
}
