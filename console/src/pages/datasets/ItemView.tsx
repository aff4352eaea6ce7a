import { Anchor, Select } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { useItem, useMatches, type DatasetVersion } from "../../api/datasets";
import { type Schemas } from "../../api/http";
import { FigureTable } from "../../parts/FigureTable";
import { count, percent } from "../../parts/format";
import { matchOption } from "../../parts/ids/MatchOption";
import { Figures, Section } from "../../parts/page";
import { Loaded } from "../../parts/states";
import { Histogram } from "./charts";
import { itemPage } from "./pages";

/** One item: its values, its months, and what goes together with it. */
export function ItemView({ version }: { version: DatasetVersion }) {
  const [search, setSearch] = useSearchParams();
  const [typed, setTyped] = useState("");
  const [wanted] = useDebouncedValue(typed, 200);
  const matches = useMatches(version.name, "item", wanted);
  const item = search.get("item") ?? matches.data?.[0]?.id ?? "";
  const options = [...new Set([...(item ? [item] : []), ...(matches.data ?? []).map((each) => each.id)])];
  const facts = useItem(version.name, item);
  return (
    <>
      <Section title="One item">
        <Select
          label="Item, by id or name"
          size="xs"
          w={260}
          searchable
          data={options}
          filter={({ options: all }) => all}
          renderOption={matchOption(matches.data)}
          value={item || null}
          onSearchChange={setTyped}
          onChange={(next) => next && setSearch({ view: "item", item: next })}
        />
      </Section>
      {item && <Loaded query={facts}>{(known) => <Facts version={version} facts={known} />}</Loaded>}
    </>
  );
}

function Facts({ version, facts }: { version: DatasetVersion; facts: Schemas["ItemFacts"] }) {
  const figures: [string, string][] = [["rows", count(facts.rows)], ["users", count(facts.users)]];
  if (facts.mean != null) figures.push(["mean value", facts.mean.toFixed(2)]);
  const columns = Object.entries(facts.columns ?? {}).filter(([, value]) => value !== null);
  const months = (facts.over_time ?? []).map((point) => ({ label: point.at.slice(0, 7), count: point.rows }));
  const values = (facts.histogram ?? []).map((bin) => ({ label: String(Number(bin.at.toPrecision(4))), count: bin.rows }));
  return (
    <>
      <Figures rows={figures} />
      <p className="quiet">{columns.map(([name, value]) => `${name} ${Array.isArray(value) ? value.join("|") : String(value)}`).join("; ")}</p>
      <div className="columns">
        {values.length > 0 && <Histogram title="Its values" rows={values} axis="value" what="rows" />}
        {months.length > 0 && <Histogram title="Its months" rows={months} axis="month" what="rows" />}
      </div>
      <Section title="Goes together with">
        <FigureTable
          label="Goes together with"
          rows={facts.together ?? []}
          rowKey={(row) => row.item}
          columns={[
            { title: "item", value: (row) => row.item, show: (row) => <Anchor component={Link} to={itemPage(version.name)(row.item)}>{row.item}</Anchor> },
            { title: "name", value: (row) => row.label ?? null, show: (row) => <span className="item-name">{row.label}</span> },
            { title: "users of both", number: true, value: (row) => row.shared, show: (row) => count(row.shared) },
            { title: "share of its users", number: true, value: (row) => row.share, show: (row) => percent(row.share) },
            { title: "lift", number: true, value: (row) => row.lift, show: (row) => row.lift.toFixed(2) },
          ]}
        />
        <p className="quiet">Lift: how much more often the two share a user than if they met by chance.</p>
      </Section>
    </>
  );
}
