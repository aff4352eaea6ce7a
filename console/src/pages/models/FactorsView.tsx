import "@mantine/charts/styles.css";
import { ScatterChart } from "@mantine/charts";
import { type Schemas } from "../../api/http";
import { useFactors, type ModelCard } from "../../api/models";
import { ChartFrame } from "../../parts/ChartFrame";
import { FigureTable } from "../../parts/FigureTable";
import { count, percent } from "../../parts/format";
import { Section } from "../../parts/page";
import { SERIES } from "../../parts/shapes";
import { Loaded } from "../../parts/states";

const ENDS = 4;
const DRAWN = 400;

/** What each factor stands for, and the items on the two leading ones. */
export function FactorsView({ card }: { card: ModelCard }) {
  const query = useFactors(card.name, ENDS);
  return (
    <Loaded query={query}>
      {(report) => (
        <>
          <FactorTable factors={report.factors} />
          <ItemMap points={report.map} />
        </>
      )}
    </Loaded>
  );
}

function FactorTable({ factors }: { factors: Schemas["FactorReport"][] }) {
  const ends = (side: Schemas["FactorEnd"][]) => side.map((each) => each.name ?? each.item).join(", ");
  return (
    <Section title="Factors">
      <FigureTable
        label="Factors"
        rows={factors}
        rowKey={(row) => String(row.factor)}
        pageSize={8}
        columns={[
          { title: "factor", number: true, value: (row) => row.factor },
          { title: "share of variance", number: true, value: (row) => row.share, show: (row) => percent(row.share) },
          { title: "one end", value: (row) => ends(row.top), show: (row) => <span className="item-name">{ends(row.top)}</span> },
          { title: "other end", value: (row) => ends(row.bottom), show: (row) => <span className="item-name">{ends(row.bottom)}</span> },
        ]}
      />
      <p className="quiet">Turned to the principal axes of the scores; where nothing is below 0, as learned. The first often is plain popularity.</p>
    </Section>
  );
}

function ItemMap({ points }: { points: Schemas["MapPoint"][] }) {
  const drawn = points.slice(0, DRAWN);
  return (
    <ChartFrame
      title="Items on the two leading factors"
      rows={points}
      rowKey={(row) => row.item}
      columns={[
        { title: "item", value: (row) => row.item },
        { title: "name", value: (row) => row.name ?? null },
        { title: "first factor", number: true, value: (row) => row.x, show: (row) => row.x.toFixed(3) },
        { title: "second factor", number: true, value: (row) => row.y, show: (row) => row.y.toFixed(3) },
        { title: "users", number: true, value: (row) => row.count, show: (row) => count(row.count) },
      ]}
    >
      <ScatterChart
        h={360}
        data={[{ name: `the ${count(drawn.length)} items most users have`, color: SERIES[0] ?? "gray", data: drawn.map(({ x, y }) => ({ x, y })) }]}
        dataKey={{ x: "x", y: "y" }}
        xAxisLabel="first factor"
        yAxisLabel="second factor"
        valueFormatter={(value) => value.toFixed(2)}
      />
    </ChartFrame>
  );
}
