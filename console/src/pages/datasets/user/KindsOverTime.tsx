import { BarChart } from "@mantine/charts";
import type { History } from "../../../api/datasets";
import { ChartFrame } from "../../../parts/charts/ChartFrame";
import { SERIES } from "../../../parts/charts/shapes";
import { count } from "../../../parts/format";
import { monthsByKind } from "./months";

/** Rows of one user by month, one bar segment a kind. */
export function KindsOverTime({ rows }: { rows: History["rows"] }) {
  const { months, kinds } = monthsByKind(rows);
  return (
    <ChartFrame
      title="Kinds over time"
      rows={months}
      rowKey={(row) => row.month}
      columns={[
        { title: "month", value: (row) => row.month },
        ...kinds.map((kind) => ({ title: kind, number: true, value: (row: (typeof months)[number]) => row.counts[kind] ?? 0 })),
      ]}
    >
      <BarChart
        h={190} type="stacked" data={months.map(({ month, counts }) => ({ month, ...counts }))} dataKey="month" withLegend valueFormatter={count}
        series={kinds.map((kind, index) => ({ name: kind, color: SERIES[index % SERIES.length] ?? "gray" }))} legendProps={{ verticalAlign: "top", height: 34 }}
        yAxisProps={{ allowDecimals: false }}
      />
    </ChartFrame>
  );
}
