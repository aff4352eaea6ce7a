import { LineChart } from "@mantine/charts";
import { useRunLikelihoods, type Run } from "../../../api/contests";
import { ChartFrame } from "../../../parts/charts/ChartFrame";
import { count, percent } from "../../../parts/format";
import { chanceAxes, drawn, Interval } from "../../../parts/charts/reliability";
import type { Shape } from "../../../parts/charts/shapes";
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
        const axes = chanceAxes(rows);
        const colorOf = (label: string) => shapes.get(label)?.color ?? "gray";
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
              data={rows.map((row) => drawn(row, row.contender, axes.lowest))}
              dataKey="said"
              series={[{ name: "as said", color: "ink.4", strokeDasharray: "3 3" }, ...labels.map((label) => ({ name: label, color: colorOf(label), strokeDasharray: shapes.get(label)?.dash }))]}
              curveType="linear"
              connectNulls
              valueFormatter={percent}
              xAxisProps={axes.x}
              yAxisProps={axes.y}
              xAxisLabel="chance said"
              yAxisLabel="share taken"
              lineProps={(line) => ({ dot: <Dot shape={shapes.get(line.name)} />, activeDot: false, children: labels.includes(line.name) && <Interval label={line.name} color={colorOf(line.name)} /> })}
            />
          </ChartFrame>
        );
      }}
    </Loaded>
  );
}
