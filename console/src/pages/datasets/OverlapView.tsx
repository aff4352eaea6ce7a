import { MultiSelect, SegmentedControl } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { useOverlap, useMatches, type DatasetVersion } from "../../api/datasets";
import { type Schemas } from "../../api/http";
import { FigureTable } from "../../parts/FigureTable";
import { count } from "../../parts/format";
import { Section } from "../../parts/page";
import { matchOption } from "../../parts/ids/MatchOption";
import { Loaded } from "../../parts/states";

const MOST = 30;
const FIRST = 6;
type Pair = Schemas["Overlap"];
interface Measure {
  value: string;
  label: string;
  of: (pair: Pair) => number | null;
  show: (value: number) => string;
}
const JACCARD: Measure = { value: "jaccard", label: "Jaccard", of: (pair) => pair.jaccard, show: (value) => value.toFixed(2) };
const MEASURES: Measure[] = [
  JACCARD,
  { value: "common", label: "in common", of: (pair) => pair.common, show: count },
  { value: "correlation", label: "correlation of values", of: (pair) => pair.correlation ?? null, show: (value) => value.toFixed(2) },
];

/** Chosen users pair by pair: how many items in common, how alike their values. */
export function OverlapView({ version }: { version: DatasetVersion }) {
  const [search, setSearch] = useSearchParams();
  const [typed, setTyped] = useState("");
  const [wanted] = useDebouncedValue(typed, 200);
  const matches = useMatches(version.name, "user", wanted);
  const given = search.getAll("user");
  const users = given.length ? given : (matches.data ?? []).slice(0, FIRST).map((each) => each.id);
  const measure = MEASURES.find((each) => each.value === search.get("measure")) ?? JACCARD;
  const ask = (next: string[], by = measure.value) => {
    const query = new URLSearchParams({ view: "overlap", measure: by });
    next.forEach((user) => query.append("user", user));
    setSearch(query);
  };
  const map = useOverlap(version.name, users);
  return (
    <>
      <Section title="Overlap of users">
        <MultiSelect
          label="Users, by id or name"
          size="xs"
          searchable
          maxValues={MOST}
          data={[...new Set([...users, ...(matches.data ?? []).map((each) => each.id)])]}
          value={users}
          filter={({ options: all }) => all}
          renderOption={matchOption(matches.data)}
          onSearchChange={setTyped}
          onChange={(next) => ask(next)}
        />
        <SegmentedControl mt="sm" size="xs" aria-label="Measure" data={MEASURES.map(({ value, label }) => ({ value, label }))} value={measure.value} onChange={(by) => ask(users, by)} />
      </Section>
      {users.length < 2 ? (
        <p className="quiet">Choose two users at least.</p>
      ) : (
        <Loaded query={map}>
          {(known) => (
            <>
              {(known.unknown ?? []).length > 0 && <p className="warn">Without interactions: {(known.unknown ?? []).join(", ")}</p>}
              <HeatMap users={known.users} pairs={known.pairs} measure={measure} />
              <Pairs pairs={known.pairs} />
            </>
          )}
        </Loaded>
      )}
    </>
  );
}

function HeatMap({ users, pairs, measure }: { users: string[]; pairs: Pair[]; measure: Measure }) {
  const of = new Map<string, Pair>();
  pairs.forEach((pair) => {
    of.set(`${pair.user}\n${pair.other}`, pair);
    of.set(`${pair.other}\n${pair.user}`, pair);
  });
  const most = Math.max(1e-9, ...pairs.map((pair) => Math.abs(measure.of(pair) ?? 0)));
  return (
    <div className="heat-frame">
      <table className="heat" aria-label={`Overlap map: ${measure.label}`}>
        <thead>
          <tr>
            <td />
            {users.map((user) => <th key={user} scope="col">{user}</th>)}
          </tr>
        </thead>
        <tbody>
          {users.map((user) => (
            <tr key={user}>
              <th scope="row">{user}</th>
              {users.map((other) => {
                const pair = of.get(`${user}\n${other}`);
                const value = pair ? measure.of(pair) : null;
                const share = value === null ? 0 : Math.round((Math.abs(value) / most) * 45);
                const colour = value !== null && value < 0 ? "var(--mantine-color-ochre-5)" : "var(--mantine-color-leaf-5)";
                return (
                  <td key={other} style={{ background: share ? `color-mix(in srgb, ${colour} ${share}%, transparent)` : undefined }}>
                    {user === other ? "" : value === null ? "–" : measure.show(value)}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Pairs({ pairs }: { pairs: Pair[] }) {
  return (
    <Section title="Pairs">
      <FigureTable
        label="Pairs"
        rows={pairs}
        rowKey={(row) => `${row.user} ${row.other}`}
        pageSize={12}
        columns={[
          { title: "user", value: (row) => row.user },
          { title: "other", value: (row) => row.other },
          { title: "in common", number: true, value: (row) => row.common, show: (row) => count(row.common) },
          { title: "of", number: true, value: (row) => row.items, show: (row) => count(row.items) },
          { title: "Jaccard", number: true, value: (row) => row.jaccard, show: (row) => row.jaccard.toFixed(2) },
          { title: "correlation", number: true, value: (row) => row.correlation ?? null, show: (row) => row.correlation?.toFixed(2) ?? "–" },
          { title: "mean gap", number: true, value: (row) => row.gap ?? null, show: (row) => row.gap?.toFixed(2) ?? "–" },
        ]}
      />
      <p className="quiet">Correlation (Pearson) and mean gap are over the items both gave a value; fewer than three say nothing of a correlation.</p>
    </Section>
  );
}
