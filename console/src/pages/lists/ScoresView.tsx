import { type Schemas } from "../../api/http";
import { useListScores } from "../../api/lists";
import { FigureTable } from "../../parts/FigureTable";
import { figure } from "../../parts/format";
import { Section } from "../../parts/page";
import { Loaded } from "../../parts/states";
import { FileFindings } from "./FileFindings";
import { Sentences } from "../contests/Sentences";

type Scores = Schemas["ListScores"];
type Figure = Schemas["Figure"];

/** Lists made elsewhere beside the contenders of a run: every figure, what can be told, what was odd. */
export function ScoresView({ job }: { job: number }) {
  const query = useListScores(job);
  return <Loaded query={query}>{(scores) => <Body scores={scores} />}</Loaded>;
}

function Body({ scores }: { scores: Scores }) {
  const contenders = scores.contenders ?? [];
  return (
    <Section title={`${scores.label} on the test part${scores.beside ? `, beside ${scores.beside}` : ""}`}>
      <FigureTable
        label={`Scores of ${scores.label}`}
        rows={scores.figures}
        rowKey={(row) => row.metric}
        columns={[
          { title: "metric", value: (row) => row.metric },
          { title: scores.label, number: true, value: (row) => row.mean, show: (row) => <><strong>{figure(row.mean)}</strong>{row.low != null && row.high != null && <span className="quiet"> {figure(row.low)} to {figure(row.high)}</span>}</> },
          ...contenders.map((each) => ({ title: each.contender, number: true, value: (row: Figure) => meanOf(each.figures, row.metric), show: (row: Figure) => { const mean = meanOf(each.figures, row.metric); return mean === null ? "" : figure(mean); } })),
        ]}
      />
      {scores.comparison && <Sentences lines={scores.comparison.summary} />}
      {(scores.left_out ?? []).length > 0 && <p className="quiet">Lists alone do not give {(scores.left_out ?? []).join(", ")}.</p>}
      <FileFindings findings={scores.findings} />
    </Section>
  );
}

function meanOf(figures: Figure[], metric: string): number | null {
  return figures.find((each) => each.metric === metric)?.mean ?? null;
}
