import { LineChart } from "@mantine/charts";
import type { ModelCard } from "../../api/models";
import { ChartFrame } from "../../parts/charts/ChartFrame";
import { count, percent } from "../../parts/format";
import { Figures } from "../../parts/page";
import { chanceAxes, drawn, Interval } from "../../parts/charts/reliability";

type Likelihood = NonNullable<ModelCard["likelihood"]>;

/** How often what was said came true, on the test part of the model's contest. */
export function ReliabilityView({ likelihood }: { likelihood: Likelihood }) {
  const bins = likelihood.reliability;
  const axes = chanceAxes(bins);
  return (
    <>
      <Figures
        rows={[
          ["Brier score", likelihood.brier.toFixed(5)],
          ["log loss", likelihood.log_loss.toFixed(5)],
          ["base rate", percent(likelihood.base_rate)],
        ]}
      />
      <ChartFrame
        title="Reliability, test part"
        rows={bins}
        rowKey={(bin) => String(bin.said)}
        columns={[
          { title: "chance said", number: true, value: (bin) => bin.said, show: (bin) => percent(bin.said) },
          { title: "share taken", number: true, value: (bin) => bin.taken, show: (bin) => percent(bin.taken) },
          { title: "95 % from", number: true, value: (bin) => bin.low, show: (bin) => percent(bin.low) },
          { title: "to", number: true, value: (bin) => bin.high, show: (bin) => percent(bin.high) },
          { title: "pairs", number: true, value: (bin) => bin.pairs, show: (bin) => count(Math.round(bin.pairs)) },
        ]}
      >
        <LineChart
          h={280}
          data={bins.map((bin) => drawn(bin, "taken", axes.lowest))}
          dataKey="said"
          series={[
            { name: "as said", color: "ink.4", strokeDasharray: "3 3" },
            { name: "taken", color: "var(--series-1)" },
          ]}
          curveType="linear"
          withLegend
          valueFormatter={percent}
          xAxisProps={axes.x}
          yAxisProps={axes.y}
          lineProps={(line) => (line.name === "taken" ? { children: <Interval label="taken" color="var(--series-1)" /> } : {})}
          xAxisLabel="chance said"
          yAxisLabel="share taken"
        />
      </ChartFrame>
      <p className="quiet">Pairs of users of the test part with items that they lack, each as likely to be shown. Calibrated on the validation part.</p>
    </>
  );
}
