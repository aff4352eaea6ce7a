import { Button, Group, SegmentedControl, Switch, TextInput } from "@mantine/core";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { tableFile, useRows, type DatasetVersion, type TableName } from "../../api/datasets";
import { count } from "../../parts/format";
import { Section } from "../../parts/page";
import { Loaded } from "../../parts/states";
import { Grid } from "./grid";

const SHOWN = 100;
const EXAMPLES: Record<string, string> = {
  interactions: "kind = 'grown' AND value <= 2",
  items: "'climbing' IN traits AND stock < 5",
  users: "zone = 'Z3'",
};

const TABLES: TableName[] = ["interactions", "items", "users"];

function requestInUrl(search: URLSearchParams) {
  return { table: TABLES.find((each) => each === search.get("table")) ?? "interactions", where: search.get("where") ?? "", sample: search.get("sample") === "yes" };
}

/** Rows of a table: the first, those for which a condition holds, or a sample. */
export function RowsView({ version }: { version: DatasetVersion }) {
  const [search, setSearch] = useSearchParams();
  const { table, where, sample } = requestInUrl(search);
  const tables: TableName[] = ["interactions", ...(version.item_columns?.length ? ["items" as const] : []), ...(version.user_columns?.length ? ["users" as const] : [])];
  const ask = (next: { table?: TableName; where?: string; sample?: boolean }) => {
    // the address as it is: what was asked for before may not have been drawn yet
    const wanted = { ...requestInUrl(new URLSearchParams(window.location.search)), ...next };
    const query = new URLSearchParams({ view: "rows", table: wanted.table });
    if (wanted.where) query.set("where", wanted.where);
    if (wanted.sample) query.set("sample", "yes");
    setSearch(query);
  };
  const rows = useRows(version.name, table, where, sample, SHOWN);
  return (
    <Section
      title="Rows"
      side={<Button component="a" variant="subtle" size="compact-xs" href={tableFile(version.name, table)}>Whole table, Parquet</Button>}
    >
      <Group align="end" gap="md" mb="sm">
        <SegmentedControl size="xs" data={tables} value={table} onChange={(next) => ask({ table: TABLES.find((each) => each === next), where: "" })} aria-label="Table" />
        <Condition key={table} given={where} example={EXAMPLES[table] ?? ""} onAsk={(next) => ask({ where: next })} />
        <Switch size="xs" label="a sample, drawn at random" checked={sample} onChange={(event) => ask({ sample: event.currentTarget.checked })} />
      </Group>
      <Loaded query={rows}>
        {(page) => (
          <>
            <p className="quiet" role="status">
              {count(page.rows.length)} of {count(page.total)} rows{where && " for which the condition holds"}{page.sampled ? ", drawn at random" : page.total > page.rows.length ? ", the first" : ""}
            </p>
            <Grid label={table} columns={page.columns.map((column) => column.name)} numbers={page.columns.map((column) => column.type === "number")} rows={page.rows} />
          </>
        )}
      </Loaded>
    </Section>
  );
}

function Condition({ given, example, onAsk }: { given: string; example: string; onAsk: (where: string) => void }) {
  const [text, setText] = useState(given);
  return (
    <form onSubmit={(event) => { event.preventDefault(); onAsk(text.trim()); }}>
      <Group align="end" gap="xs">
        <TextInput label="Condition" size="xs" w={420} placeholder={example} value={text} onChange={(event) => setText(event.currentTarget.value)} />
        <Button size="xs" type="submit">Show</Button>
      </Group>
    </form>
  );
}
