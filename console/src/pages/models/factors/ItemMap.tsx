import "@mantine/charts/styles.css";
import { ScatterChart } from "@mantine/charts";
import { Button, Group, Paper, Select, Text } from "@mantine/core";
import { ChartFrame } from "../../../parts/charts/ChartFrame";
import { roundTicks } from "../../../parts/charts/axes";
import { count } from "../../../parts/format";
import { useSearch } from "../../../parts/search";
import { Mark, Swatch } from "../../../parts/charts/shapes";
import { groupsOf, inWindow, windowOf, type Point, type PointGroup, type Window } from "./mapWindow";

const DRAWN = 400;
const CLOSEST = 5;
const LISTED = 30;

const nameOf = (point: Point) => point.name ?? point.item;

/** The place of a point among those drawn, of what the chart gives back of it. */
function placeOf(given: unknown): number {
  return (given as { payload?: { place?: number } } | undefined)?.payload?.place ?? -1;
}

/** The name of the point under the pointer, and what it is coloured by. */
function tip(point: Point | undefined) {
  if (!point) return null;
  return (
    <Paper withBorder p="xs">
      <span className="item-name">{nameOf(point)}</span>
      <br />
      {point.value && `${point.value}, `}{count(point.count)} users
    </Paper>
  );
}

/** Items on the two leading factors: one is found by its name, and looked at from closer. */
export function ItemMap({ points, columns }: { points: Point[]; columns: string[] }) {
  const [search, choose] = useSearch();
  const colour = search.get("colour");
  const chosen = points.find((each) => each.item === search.get("at"));
  const closer = Math.min(CLOSEST, Math.max(0, Number(search.get("closer") ?? 0) || 0));
  const step = (next: number) => choose("closer", next === 0 ? null : String(next));
  const centre = (item: string | null) => {
    choose("at", item);
    // from afar one point is as good as lost
    if (item && closer === 0) step(2);
  };
  const around = windowOf(points, chosen, closer);
  const drawn = inWindow(points, around).slice(0, DRAWN);
  return (
    <>
      <Group align="end">
        {columns.length > 0 && <Select size="xs" label="Colour the map by" data={columns} value={colour} onChange={(column) => choose("colour", column)} clearable w={200} />}
        <Select
          size="xs" label="Find an item on the map" searchable clearable limit={LISTED} w={260} nothingFoundMessage="No item on the map is called so."
          data={points.map((each) => ({ value: each.item, label: each.name ? `${each.name} (${each.item})` : each.item }))}
          value={chosen?.item ?? null} onChange={centre}
        />
        <Button.Group>
          <Button size="xs" variant="default" disabled={closer >= CLOSEST} onClick={() => step(closer + 1)}>Closer</Button>
          <Button size="xs" variant="default" disabled={closer === 0} onClick={() => step(closer - 1)}>Wider</Button>
          <Button size="xs" variant="default" disabled={closer === 0 && !chosen} onClick={() => { choose("at", null); choose("closer", null); }}>All</Button>
        </Button.Group>
      </Group>
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
        <Drawing drawn={drawn} around={around} chosen={chosen} onChoose={centre} />
      </ChartFrame>
      <p className="quiet">
        {count(drawn.length)} of {count(points.length)} items{drawn.length === DRAWN ? ", those that most users have" : ""}.{" "}
        A click on an item brings it into the middle.
      </p>
    </>
  );
}

/** Draws a point with the mark of its group. */
function markOf(groups: PointGroup[]) {
  const shapes = new Map(groups.map(({ name, shape }) => [name, shape]));
  return ({ cx, cy, payload }: { cx?: number; cy?: number; payload?: { name?: string } }) => {
    const shape = shapes.get(payload?.name ?? "");
    return shape && cx !== undefined && cy !== undefined ? <Mark shape={shape} x={cx} y={cy} /> : <g />;
  };
}

function Legend({ groups }: { groups: PointGroup[] }) {
  return (
    <Group gap="md" mb="xs" role="list" aria-label="Colours and marks">
      {groups.map(({ name, shape, data }) => <Text key={name} size="xs" role="listitem"><Swatch shape={shape} />{name} ({count(data.length)})</Text>)}
    </Group>
  );
}

interface Drawn {
  drawn: Point[];
  around: Window;
  chosen: Point | undefined;
  onChoose: (item: string | null) => void;
}

function Drawing({ drawn, around, chosen, onChoose }: Drawn) {
  const ring = chosen ? [{ x: chosen.x, y: chosen.y, r: 8, color: "var(--mantine-color-text)", label: nameOf(chosen) }] : [];
  const groups = groupsOf(drawn);
  return (
    <>
      <Legend groups={groups} />
      <ScatterChart
        h={360}
        data={groups.map(({ name, shape, data }) => ({ name, color: shape.color, data }))}
        dataKey={{ x: "x", y: "y" }}
        xAxisLabel="first factor"
        yAxisLabel="second factor"
        xAxisProps={{ domain: around.x, ticks: roundTicks(around.x), allowDataOverflow: true }}
        yAxisProps={{ domain: around.y, ticks: roundTicks(around.y), allowDataOverflow: true }}
        referenceDots={ring}
        tooltipProps={{ content: ({ payload }) => tip(drawn[placeOf(payload[0])]) }}
        scatterProps={{ isAnimationActive: false, shape: markOf(groups), onClick: (point) => onChoose(drawn[placeOf(point)]?.item ?? null) }}
      />
    </>
  );
}
