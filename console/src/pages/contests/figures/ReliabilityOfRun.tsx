import { LineChart } from "@mantine/charts";
import { useRunLikelihoods, type Run } from "../../../api/contests";
import { ChartFrame } from "../../../parts/ChartFrame";
import { count, decades, percent } from "../../../parts/format";
import type { Shape } from "../../../parts/shapes";
import { Loaded } from "../../../parts/states";
import { Dot, Legend } from "./MetricAgainstK";

interface Props {
  run: Run;
  shapes: Map<string, Shape>;
}

/** How often what contenders said came true on the test part, a line a contender; nothing where none has chances. */
export function ReliabilityOfRun({ run, shapes }: Props) {
  const query = useRunLikelihoods(run.name);
  return (
    <Loaded query={query}>
      {({ contenders }) => {
        if (!contenders.length) return null;
        const labels = contenders.map((each) => each.contender);
        const rows = contenders.flatMap(({ contender, likelihood }) => likelihood.reliability.map((bin) => ({ contender, ...bin })));
        rows.sort((one, other) => one.said - other.said);
        const ticks = decades(rows.flatMap((row) => [row.said, row.taken]));
        const axis = { type: "number" as const, scale: "log" as const, domain: [ticks[0] ?? 0.001, ticks[ticks.length - 1] ?? 1], ticks };
        return (
          <ChartFrame
            title="Reliability of chances, test part"
            rows={rows}
            rowKey={(row) => `${row.contender} ${row.said}`}
            columns={[
              { title: "contender", value: (row) => row.contender },
              { title: "chance said", number: true, value: (row) => row.said, show: (row) => percent(row.said) },
              { title: "share taken", number: true, value: (row) => row.taken, show: (row) => percent(row.taken) },
              { title: "95 % from", number: true, value: (row) => row.low, show: (row) => percent(row.low) },
              { title: "to", number: true, value: (row) => row.high, show: (row) => percent(row.high) },
              { title: "pairs", number: true, value: (row) => row.pairs, show: (row) => count(Math.round(row.pairs)) },
            ]}
            side={<Legend names={labels} shapes={shapes} />}
          >
            <LineChart
              h={280}
              data={rows.map((row) => ({ said: row.said, "as said": row.said, [row.contender]: row.taken > 0 ? row.taken : null }))}
              dataKey="said"
              series={[{ name: "as said", color: "var(--rule)" }, ...labels.map((label) => ({ name: label, color: shapes.get(label)?.color ?? "gray", strokeDasharray: shapes.get(label)?.dash }))]}
              curveType="linear"
              connectNulls
              valueFormatter={percent}
              xAxisProps={{ ...axis, tickFormatter: percent }}
              yAxisProps={{ ...axis, width: 62, tickFormatter: percent }}
              xAxisLabel="chance said"
              yAxisLabel="share taken"
              lineProps={(line) => ({ dot: <Dot shape={shapes.get(line.name)} />, activeDot: false })}
            />
          </ChartFrame>
        );
      }}
    </Loaded>
  );
}
