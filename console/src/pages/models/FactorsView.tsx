import "@mantine/charts/styles.css";
import { ScatterChart } from "@mantine/charts";
import { Select } from "@mantine/core";
import { type Schemas } from "../../api/http";
import { useFactors, type ModelCard } from "../../api/models";
import { ChartFrame } from "../../parts/ChartFrame";
import { FigureTable } from "../../parts/FigureTable";
import { count, percent } from "../../parts/format";
import { Section } from "../../parts/page";
import { useSearch } from "../../parts/search";
import { SERIES } from "../../parts/shapes";
import { Loaded } from "../../parts/states";

const ENDS = 4;
const DRAWN = 400;

/** What each factor stands for, and the items on the two leading ones. */
export function FactorsView({ card }: { card: ModelCard }) {
  const [search, choose] = useSearch();
  const colour = search.get("colour");
  const query = useFactors(card.name, ENDS, colour);
  return (
    <Loaded query={query}>
      {(report) => (
        <>
          <FactorTable factors={report.factors} />
          {(report.columns ?? []).length > 0 && <Select label="Colour the map by" data={report.columns ?? []} value={colour} onChange={(column) => choose("colour", column)} clearable maw={260} />}
          <ItemMap points={report.map} />
        </>
      )}
    </Loaded>
  );
}

/** The most frequent values with a colour each, all others together. */
function groupsOf(points: Schemas["MapPoint"][]): { name: string; color: string; data: { x: number; y: number }[] }[] {
  const counts = new Map<string, number>();
  for (const { value } of points) if (value != null) counts.set(value, (counts.get(value) ?? 0) + 1);
  const named = [...counts].sort(([, one], [, other]) => other - one).slice(0, SERIES.length - 1).map(([value]) => value);
  const of = (wanted: (value: string | null | undefined) => boolean) => points.filter(({ value }) => wanted(value)).map(({ x, y }) => ({ x, y }));
  const groups = named.map((name, place) => ({ name, color: SERIES[place] ?? "gray", data: of((value) => value === name) }));
  const others = of((value) => value == null || !named.includes(value));
  if (others.length === 0) return groups;
  const name = named.length ? "others" : `the ${count(points.length)} items most users have`;
  // first, so that what is named is drawn over it
  return [{ name, color: named.length ? "var(--mantine-color-default-border)" : (SERIES[0] ?? "gray"), data: others }, ...groups];
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
        { title: "coloured by", value: (row) => row.value ?? null },
      ]}
    >
      <ScatterChart
        h={360}
        data={groupsOf(drawn)}
        withLegend
        dataKey={{ x: "x", y: "y" }}
        xAxisLabel="first factor"
        yAxisLabel="second factor"
        valueFormatter={(value) => value.toFixed(2)}
      />
    </ChartFrame>
  );
}
