import { Button, Group, Textarea } from "@mantine/core";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { useSql, useSqlFile, type DatasetVersion } from "../../api/datasets";
import { save } from "../../parts/download";
import { count, duration } from "../../parts/format";
import { Section } from "../../parts/page";
import { Loaded, Failed } from "../../parts/states";
import { Grid } from "./grid";

const FIRST = "SELECT kind, count(*) AS rows, count(DISTINCT user) AS users\nFROM interactions\nGROUP BY kind\nORDER BY rows DESC";

/** One SELECT over the version's tables. */
export function QueryView({ version }: { version: DatasetVersion }) {
  const [search, setSearch] = useSearchParams();
  const sql = search.get("sql") ?? "";
  const [text, setText] = useState(sql || FIRST);
  const query = useSql(version.name, sql);
  const file = useSqlFile(version.name, sql, (content, form) => save(`query.${form}`, content));
  const run = () => (text.trim() === sql ? void query.refetch() : setSearch({ view: "sql", sql: text.trim() }));
  return (
    <Section title="SQL">
      <p className="quiet">
        The tables are interactions ({columnsOf(version)}), items and users. A SELECT only: nothing is ever written, no file is read, and time and memory are bounded.
      </p>
      <form onSubmit={(event) => { event.preventDefault(); run(); }}>
        <Textarea aria-label="SQL" autosize minRows={4} maxRows={16} value={text} onChange={(event) => setText(event.currentTarget.value)} styles={{ input: { fontFamily: "var(--mantine-font-family-monospace)" } }} />
        <Group mt="xs" gap="sm">
          <Button size="xs" type="submit" loading={query.isFetching}>Run</Button>
          {query.data && <Button size="compact-xs" variant="subtle" loading={file.isPending} onClick={() => file.mutate("parquet")}>All rows, Parquet</Button>}
          {query.data && <Button size="compact-xs" variant="subtle" loading={file.isPending} onClick={() => file.mutate("csv")}>All rows, CSV</Button>}
        </Group>
      </form>
      {file.error && <Failed error={file.error} />}
      {sql && (
        <Loaded query={query}>
          {(answer) => (
            <>
              <p className="quiet" role="status">
                {count(answer.rows.length)} rows in {duration(answer.seconds)}{answer.cut && "; there are more, which the files have"}
              </p>
              <Grid label="Answer" columns={answer.columns} numbers={answer.types.map((type) => /^(int|uint|float|decimal)/.test(type))} rows={answer.rows} />
            </>
          )}
        </Loaded>
      )}
    </Section>
  );
}

function columnsOf(version: DatasetVersion): string {
  const named = ["user", "item", "kind", "time", "value"].filter((role) => version.roles[role as "user"]);
  return [...named, ...(version.context_columns ?? []).map((column) => column.name)].join(", ");
}
