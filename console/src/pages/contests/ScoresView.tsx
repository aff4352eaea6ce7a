import { useQuery } from "@tanstack/react-query";
import { api, type Schemas } from "../../api/client";
import { FigureTable } from "../../parts/FigureTable";
import { count, figure } from "../../parts/format";
import { Section } from "../../parts/page";
import { Asked } from "../../parts/states";
import { Told } from "./Told";

type Scores = Schemas["ListScores"];
type Figure = Schemas["Figure"];

/** What a file of lists can have that is odd, and what is done about it. */
const ODD: Partial<Record<keyof Schemas["ListFindings"], string>> = {
  users_without_list: "users of the test part have no list: they score nothing",
  users_not_counted: "users of the file are unknown or have nothing relevant: not scored",
  unknown_items: "items training never saw: they hold their place and miss",
  known_rows: "rows show what the user has in training",
  repeats: "rows repeat an item of their list: dropped, what follows moves up",
  uneven_places: "lists have gaps or repeats in their places: numbered afresh",
  short_lists: "lists are shorter than the largest cut-off: empty places miss",
};

/** Lists made elsewhere beside the contenders of a run: every figure, what can be told, what was odd. */
export function ScoresView({ job }: { job: number }) {
  const query = useQuery({ queryKey: ["list scores", job], queryFn: () => api.listScores(job) });
  return <Asked query={query}>{(found) => <Body found={found} />}</Asked>;
}

function Body({ found }: { found: Scores }) {
  const contenders = found.contenders ?? [];
  return (
    <Section title={`${found.label} on the test part${found.beside ? `, beside ${found.beside}` : ""}`}>
      <FigureTable
        label={`Scores of ${found.label}`}
        rows={found.figures}
        rowKey={(row) => row.metric}
        columns={[
          { title: "metric", value: (row) => row.metric },
          { title: found.label, number: true, value: (row) => row.mean, show: (row) => <><strong>{figure(row.mean)}</strong>{row.low != null && row.high != null && <span className="quiet"> {figure(row.low)} to {figure(row.high)}</span>}</> },
          ...contenders.map((each) => ({ title: each.contender, number: true, value: (row: Figure) => meanOf(each.figures, row.metric), show: (row: Figure) => { const mean = meanOf(each.figures, row.metric); return mean === null ? "" : figure(mean); } })),
        ]}
      />
      {found.comparison && <Told lines={found.comparison.summary} />}
      <Odd found={found} />
    </Section>
  );
}

function meanOf(figures: Figure[], metric: string): number | null {
  return figures.find((each) => each.metric === metric)?.mean ?? null;
}

function Odd({ found }: { found: Scores }) {
  const { findings } = found;
  const odd = (Object.keys(ODD) as (keyof typeof ODD)[]).filter((name) => Number(findings[name]) > 0);
  const dropped = findings.known_dropped ? ": taken out" : ": they hold their place and miss";
  return (
    <>
      <p className="quiet">
        {findings.format}: {count(findings.rows)} rows, lists of {count(findings.users)} users; {count(found.users)} users are scored.
        {(found.left_out ?? []).length > 0 && ` Lists alone do not give ${(found.left_out ?? []).join(", ")}.`}
      </p>
      <ul style={{ margin: 0, paddingLeft: "1.1rem" }}>
        {odd.map((name) => {
          const examples = findings.examples?.[name] ?? [];
          return (
            <li key={name}>
              <span className="warn">{count(Number(findings[name]))}</span> {ODD[name]}{name === "known_rows" && dropped}
              {examples.length > 0 && <span className="quiet"> ({examples.join(", ")}{Number(findings[name]) > examples.length && ", ..."})</span>}
            </li>
          );
        })}
      </ul>
    </>
  );
}
