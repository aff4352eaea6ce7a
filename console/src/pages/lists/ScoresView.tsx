import { type Schemas } from "../../api/http";
import { useListScores } from "../../api/lists";
import { FigureTable } from "../../parts/FigureTable";
import { figure } from "../../parts/format";
import { Section } from "../../parts/page";
import { Asked } from "../../parts/states";
import { FileFindings } from "./FileFindings";
import { Told } from "../contests/Told";

type Scores = Schemas["ListScores"];
type Figure = Schemas["Figure"];

/** Lists made elsewhere beside the contenders of a run: every figure, what can be told, what was odd. */
export function ScoresView({ job }: { job: number }) {
  const query = useListScores(job);
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
      {(found.left_out ?? []).length > 0 && <p className="quiet">Lists alone do not give {(found.left_out ?? []).join(", ")}.</p>}
      <FileFindings found={found.findings} />
    </Section>
  );
}

function meanOf(figures: Figure[], metric: string): number | null {
  return figures.find((each) => each.metric === metric)?.mean ?? null;
}
