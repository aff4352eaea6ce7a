import { Button } from "@mantine/core";
import { type Schemas } from "../../api/http";
import { useRollBack, useShelfDifference, useShelfHistory } from "../../api/shelves";
import { FigureTable } from "../../parts/FigureTable";
import { moment } from "../../parts/format";
import { Opened } from "../../parts/Opened";
import { Section } from "../../parts/page";
import { useSearch } from "../../parts/search";
import { Loaded, Failed } from "../../parts/states";

type History = Schemas["ShelfHistory"];
type Version = History["versions"][number];

/** Every version, when it was served, what it changed, and the way back to it. */
export function Versions({ shelf }: { shelf: string }) {
  const history = useShelfHistory(shelf);
  return (
    <Section title="Versions">
      <Loaded query={history}>{(versions) => <VersionTable history={versions} />}</Loaded>
    </Section>
  );
}

function VersionTable({ history }: { history: History }) {
  const [search, choose] = useSearch();
  const chosen = Number(search.get("changes")) || null;
  const back = useRollBack(history.shelf);
  const open = (number: number) => choose("changes", chosen === number ? null : String(number));
  const served = (row: Version) => (history.servings ?? []).filter((each) => each.number === row.number);
  return (
    <>
      <FigureTable
        label="Versions"
        rows={history.versions}
        rowKey={(row) => row.name}
        columns={[
          { title: "version", number: true, value: (row) => row.number },
          { title: "published", value: (row) => row.published_at, show: (row) => moment(row.published_at) },
          { title: "served", value: (row) => served(row)[0]?.at ?? "", show: (row) => (row.number === history.serving ? <b>now, since {moment(served(row)[0]?.at ?? row.published_at)}</b> : `last from ${moment(served(row)[0]?.at ?? row.published_at)}`) },
          { title: "condition", value: (row) => row.spec.where ?? "", show: (row) => (row.spec.where ? <code>{row.spec.where}</code> : "none") },
          {
            title: "actions", value: () => "",
            show: (row) => (
              <Button.Group>
                <Button size="compact-xs" variant="default" disabled={row.number === 1} aria-expanded={chosen === row.number} onClick={() => open(row.number)}>Changes of {row.number}</Button>
                <Button size="compact-xs" variant="default" disabled={row.number === history.serving} loading={back.isPending && back.variables === row.number} onClick={() => back.mutate(row.number)}>Serve {row.number}</Button>
              </Button.Group>
            ),
          },
        ]}
      />
      {back.error && <Failed error={back.error} />}
      {chosen !== null && chosen > 1 && <Opened id={chosen}><Changes shelf={history.shelf} number={chosen} /></Opened>}
    </>
  );
}

function Changes({ shelf, number }: { shelf: string; number: number }) {
  const query = useShelfDifference(shelf, number);
  return (
    <Loaded query={query}>
      {(changes) => (
        <>
          <p className="quiet" style={{ margin: "6px 0 0" }}>From {changes.before} to {changes.after}: {changes.fields.join(", ") || "nothing but how the file is written"}.</p>
          <pre className="file" tabIndex={0} aria-label={`Changes from ${changes.before} to ${changes.after}`}>
            {changes.lines.map((line, place) => (
              <span key={place} className={line.startsWith("  ") ? "quiet" : undefined}>{line}{"\n"}</span>
            ))}
          </pre>
        </>
      )}
    </Loaded>
  );
}
