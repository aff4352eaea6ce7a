import { type Schemas } from "../../api/http";
import { FigureTable } from "../../parts/FigureTable";
import { figure } from "../../parts/format";

type Evaluation = Schemas["ShelfEvaluation"];
type Figure = Schemas["Figure"];

interface Row {
  name: string;
  figures: Figure[];
}

/** What lists are worth: as served, without each part of the shelf, and of the contenders. */
export function EvaluatedLists({ evaluation }: { evaluation: Evaluation }) {
  const price = new Map((evaluation.price ?? []).map((pair) => [pair.second, pair]));
  const rows: Row[] = [
    { name: "as served", figures: evaluation.figures },
    ...evaluation.variants.map((each) => ({ name: each.label, figures: each.figures })),
    ...evaluation.contenders.map((each) => ({ name: each.contender, figures: each.figures })),
  ];
  const adds = (name: string) => {
    const pair = price.get(name);
    return pair ? `${pair.difference >= 0 ? "+" : ""}${pair.difference.toFixed(4)} (${pair.low.toFixed(4)} to ${pair.high.toFixed(4)}), ${pair.verdict}` : "";
  };
  const of = (row: Row, metric: string) => row.figures.find((each) => each.metric === metric);
  const decides = evaluation.decide_by;
  const others = evaluation.figures.map((each) => each.metric).filter((metric) => metric !== decides);
  return (
    <FigureTable
      label="Lists as served, without each part, and of the contenders"
      rows={rows}
      rowKey={(row) => row.name}
      columns={[
        { title: "lists", value: (row) => row.name, show: (row) => <span style={{ whiteSpace: "nowrap" }}>{row.name}</span> },
        { title: decides, number: true, value: (row) => of(row, decides)?.mean ?? null, show: (row) => <WithInterval of={of(row, decides)} /> },
        { title: "what that part adds", value: (row) => adds(row.name), show: (row) => <span style={{ whiteSpace: "nowrap" }}>{adds(row.name)}</span> },
        ...others.map((metric) => ({
          title: metric,
          number: true,
          value: (row: Row) => of(row, metric)?.mean ?? null,
          show: (row: Row) => <span title={interval(of(row, metric))}>{figure(of(row, metric)?.mean ?? NaN)}</span>,
        })),
      ]}
    />
  );
}

function interval(of: Figure | undefined): string {
  return of?.low != null && of.high != null ? `${figure(of.low)} to ${figure(of.high)}` : "";
}

/** A mean, and its interval where it has one. */
export function WithInterval({ of }: { of: Figure | undefined }) {
  return (
    <span style={{ whiteSpace: "nowrap" }}>
      {figure(of?.mean ?? NaN)} <span className="quiet">{interval(of)}</span>
    </span>
  );
}
