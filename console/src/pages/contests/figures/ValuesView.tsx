import { LineChart } from "@mantine/charts";
import { useRunValues, type Run } from "../../../api/contests";
import { roundAxis } from "../../../parts/charts/axes";
import { ChartFrame } from "../../../parts/charts/ChartFrame";
import { count, figure } from "../../../parts/format";
import type { Shape } from "../../../parts/charts/shapes";
import { Loaded } from "../../../parts/states";
import { Dot, Legend } from "./MetricAgainstK";

interface Props {
  run: Run;
  part: "test" | "validation";
  shapes: Map<string, Shape>;
}

interface BinRow {
  at: number;
  n: number;
  means: Record<string, number>;
  errors: Record<string, number>;
}

/** Predicted against actual values, a line a contender, beside the line of perfect predictions. */
export function ValuesView({ run, part, shapes }: Props) {
  const query = useRunValues(run.name, part);
  return (
    <Loaded query={query}>
      {({ contenders }) => {
        const labels = contenders.map((each) => each.contender);
        const rows: BinRow[] = (contenders[0]?.by_actual ?? []).map((first) => {
          const bins = contenders.map((each) => ({ label: each.contender, bin: each.by_actual.find((bin) => bin.at === first.at) }));
          const of = (pick: "predicted" | "rmse") => Object.fromEntries(bins.map(({ label, bin }) => [label, bin?.[pick] ?? NaN]));
          return { at: first.at, n: first.n, means: of("predicted"), errors: of("rmse") };
        });
        return (
          <ChartFrame
            title={`Predicted against actual values, ${part} part`}
            rows={rows}
            rowKey={(row) => String(row.at)}
            columns={[
              { title: "actual", number: true, value: (row) => row.at },
              { title: "values", number: true, value: (row) => row.n, show: (row) => count(row.n) },
              ...labels.map((label) => ({ title: `${label}, mean predicted`, number: true, value: (row: BinRow) => row.means[label] ?? null, show: (row: BinRow) => figure(row.means[label] ?? 0) })),
              ...labels.map((label) => ({ title: `${label}, rmse`, number: true, value: (row: BinRow) => row.errors[label] ?? null, show: (row: BinRow) => figure(row.errors[label] ?? 0) })),
            ]}
            side={<Legend names={labels} shapes={shapes} />}
          >
            <LineChart
              h={280}
              data={rows.map((row) => ({ at: row.at, perfect: row.at, ...row.means }))}
              dataKey="at"
              series={[{ name: "perfect", color: "ink.4", strokeDasharray: "3 3" }, ...labels.map((label) => ({ name: label, color: shapes.get(label)?.color ?? "gray", strokeDasharray: shapes.get(label)?.dash }))]}
              curveType="linear"
              valueFormatter={figure}
              xAxisProps={{ type: "number", domain: ["dataMin", "dataMax"], ticks: rows.map((row) => row.at), padding: { left: 20, right: 20 } }}
              yAxisProps={{ ...roundAxis(rows.flatMap((row) => [row.at, ...Object.values(row.means)])), width: 62 }}
              xAxisLabel="actual value"
              lineProps={(line) => ({ dot: <Dot shape={shapes.get(line.name)} />, activeDot: false })}
            />
          </ChartFrame>
        );
      }}
    </Loaded>
  );
}
