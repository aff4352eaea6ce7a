import { Select } from "@mantine/core";
import { useSegments, type Run } from "../../../api/contests";
import { useVersion } from "../../../api/datasets";
import { type Schemas } from "../../../api/http";
import { FigureTable } from "../../../parts/FigureTable";
import { count, figure } from "../../../parts/format";
import { Section } from "../../../parts/page";
import { useSearch } from "../../../parts/search";
import type { Shape } from "../../../parts/charts/shapes";
import { Loaded } from "../../../parts/states";

type Segment = Schemas["Segment"];

interface Props {
  run: Run;
  metric: string;
  part: "test" | "validation";
  shapes: Map<string, Shape>;
}

const FIXED = [
  { value: "history", label: "length of history" },
  { value: "popularity", label: "popularity of the item" },
  { value: "time", label: "time" },
  { value: "seen", label: "seen or new user" },
  { value: "seen_items", label: "seen or new item" },
];

/** One metric by parts of the users or of the relevant items, with counts. */
export function SegmentsView({ run, metric, part, shapes }: Props) {
  const [search, choose] = useSearch();
  const by = search.get("by") ?? "history";
  const version = useVersion(run.data);
  const query = useSegments(run, by, metric, part);
  const columns = (side: "user" | "item", tableColumns: Schemas["TableColumn"][] | undefined) =>
    (tableColumns ?? []).filter((column) => !["text", "link", "picture"].includes(column.type)).map((column) => ({ value: `${side}:${column.name}`, label: `${side}: ${column.name}` }));
  const choices = [...FIXED, ...columns("user", version.data?.user_columns), ...columns("item", version.data?.item_columns)];
  if (!run.standings?.length) return null;
  return (
    <Section
      title={`${metric} by segment, ${part} part`}
      side={
        <Select
          aria-label="Segments by"
          size="xs"
          w={200}
          data={choices}
          value={by}
          allowDeselect={false}
          onChange={(value) => choose("by", value)}
        />
      }
    >
      <Loaded query={query}>
        {(segments) => (
          <>
            <FigureTable
              label={`${run.name}, ${metric} by ${by}`}
              rows={segments.segments}
              rowKey={(row) => row.name}
              columns={[
                { title: "segment", value: (row) => row.name },
                { title: "users", number: true, value: (row) => row.users, show: (row) => count(row.users) },
                { title: "relevant items", number: true, value: (row) => row.pairs, show: (row) => count(row.pairs) },
                ...[...shapes.keys()].map((label) => ({ title: label, number: true, value: (row: Segment) => meanOf(row, label), show: (row: Segment) => <Cell segment={row} label={label} less={!!segments.less_is_better} /> })),
              ]}
            />
            {segments.of === "items" && <p className="quiet">Only the relevant items of a segment count in it; users without one are left out of it.</p>}
            {segments.left_out && <p className="quiet">{segments.left_out}</p>}
          </>
        )}
      </Loaded>
    </Section>
  );
}

function meanOf(segment: Segment, label: string): number | null {
  return segment.figures.find((each) => each.contender === label)?.mean ?? null;
}

/** The mean, in full ink where it is the segment's best, and half the width of its interval. */
function Cell({ segment, label, less }: { segment: Segment; label: string; less: boolean }) {
  const value = segment.figures.find((each) => each.contender === label);
  if (!value) return null;
  const best = (less ? Math.min : Math.max)(...segment.figures.map((each) => each.mean));
  const half = value.low == null || value.high == null ? null : (value.high - value.low) / 2;
  return (
    <>
      {value.mean === best ? <strong>{figure(value.mean)}</strong> : figure(value.mean)}
      {half !== null && <span className="quiet"> ±{half.toFixed(3)}</span>}
    </>
  );
}
