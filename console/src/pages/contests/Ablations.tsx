import type { Schemas } from "../../api/http";
import { FigureTable } from "../../parts/FigureTable";
import { Section } from "../../parts/page";

type Ablation = Schemas["Ablation"];

const signed = (value: number) => `${value < 0 ? "−" : "+"}${Math.abs(value).toFixed(4)}`;

/** What each part of the preparation that was left out adds, as a paired difference. */
export function Ablations({ comparison }: { comparison: Schemas["ContestComparison"] }) {
  const rows = comparison.ablations ?? [];
  if (rows.length === 0) return null;
  return (
    <Section title="What parts of the preparation add">
      <FigureTable
        label="What parts of the preparation add"
        rows={rows}
        rowKey={(row) => row.without}
        columns={[
          { title: "part", value: (row: Ablation) => row.lacks },
          { title: "of", value: (row: Ablation) => row.contender },
          { title: `adds to ${comparison.metric}`, number: true, value: (row: Ablation) => row.difference, show: (row: Ablation) => signed(row.difference) },
          { title: "95 %", value: (row: Ablation) => row.low, show: (row: Ablation) => `${signed(row.low)} to ${signed(row.high)}` },
          { title: "p, corrected", number: true, value: (row: Ablation) => row.p_holm, show: (row: Ablation) => row.p_holm.toPrecision(2) },
          { title: "verdict", value: (row: Ablation) => row.verdict, show: (row: Ablation) => <span className={row.verdict === "helps" ? undefined : "warn"}>{row.verdict}</span> },
        ]}
      />
    </Section>
  );
}
