import { Anchor, Select } from "@mantine/core";
import type { ReactNode } from "react";
import { Link, useSearchParams } from "react-router";
import { useDataset, useNames, useVersionComparison, type DatasetVersion } from "../../api/datasets";
import { type Schemas } from "../../api/http";
import { FigureTable } from "../../parts/FigureTable";
import { count, moment, percent } from "../../parts/format";
import { NamedItem } from "../../parts/ids/NamedItem";
import { Figures, Section } from "../../parts/page";
import { Loaded, Empty } from "../../parts/states";
import { VersionActions } from "./VersionActions";

/** Every version of the dataset, and how one differs from another. */
export function VersionsView({ version }: { version: DatasetVersion }) {
  const [search, setSearch] = useSearchParams();
  const { dataset, number } = version;
  const all = useDataset(dataset);
  return (
    <Loaded query={all}>
      {(listed) => {
        const others = listed.versions.filter((each) => each.number !== number);
        const other = Number(search.get("with")) || others.find((each) => each.number < number)?.number || others[0]?.number;
        return (
          <>
            <AllVersions versions={listed.versions} />
            <VersionActions version={version} key={version.name} />
            <Section
              title="Compare"
              side={others.length > 0 && <Select aria-label="Compare with" size="xs" w={160} data={others.map((each) => ({ value: String(each.number), label: each.name }))} value={String(other)} onChange={(next) => next && setSearch({ view: "versions", with: next })} />}
            >
              {other ? <Compared dataset={dataset} before={other} after={number} /> : <Empty what="There is one version only. Rows that are added to it make the next." />}
            </Section>
          </>
        );
      }}
    </Loaded>
  );
}

function AllVersions({ versions }: { versions: Schemas["VersionSummary"][] }) {
  return (
    <Section title="Versions">
      <FigureTable
        label="Versions"
        rows={versions}
        rowKey={(row) => row.name}
        columns={[
          { title: "version", value: (row) => row.name, show: (row) => <Anchor component={Link} to={`/data/${row.name}`}>{row.name}</Anchor> },
          { title: "rows", number: true, value: (row) => row.rows, show: (row) => count(row.rows) },
          { title: "users", number: true, value: (row) => row.users, show: (row) => count(row.users) },
          { title: "items", number: true, value: (row) => row.items, show: (row) => count(row.items) },
          { title: "added to", value: (row) => row.base ?? null },
          { title: "imported", value: (row) => row.created_at, show: (row) => moment(row.created_at) },
          { title: "content hash", value: (row) => row.content_hash, show: (row) => row.content_hash.slice(0, 12) },
        ]}
      />
    </Section>
  );
}

function Compared({ dataset, before, after }: { dataset: string; before: number; after: number }) {
  const query = useVersionComparison(dataset, before, after);
  return (
    <Loaded query={query}>
      {(comparison) => {
        const figures: [string, string][] = [
          ["drift of popularity", comparison.popularity_drift.toFixed(3)],
          ["users new, gone", `${count(comparison.users_new)}, ${count(comparison.users_gone)}`],
          ["items new, gone", `${count(comparison.items_new)}, ${count(comparison.items_gone)}`],
        ];
        if (comparison.rank_correlation != null) figures.push(["rank correlation of items", comparison.rank_correlation.toFixed(3)]);
        if (comparison.value_drift != null) figures.push(["drift of values", comparison.value_drift.toFixed(3)]);
        if (comparison.value_means) figures.push(["mean value", comparison.value_means.map((mean) => mean.toFixed(3)).join(" to ")]);
        return (
          <>
            <p className="quiet">From {comparison.before} to {comparison.after}{comparison.same_content && ": the same content"}. Drift: half of the shares that moved; 0 the same, 1 nothing shared.</p>
            <Figures rows={figures} />
            <div className="columns">
              <Counts comparison={comparison} />
              {comparison.movers.length > 0 && <Movers comparison={comparison} />}
              {(comparison.kinds ?? []).length > 0 && <Shares title="Kinds" column="kind" rows={comparison.kinds ?? []} comparison={comparison} />}
              {(comparison.values ?? []).length > 0 && <Shares title="Values" column="value" rows={comparison.values ?? []} comparison={comparison} />}
            </div>
          </>
        );
      }}
    </Loaded>
  );
}

function Counts({ comparison }: { comparison: Schemas["Comparison"] }) {
  const show = (name: string, value: number) => (name === "density" ? percent(value) : name === "gini" ? value.toFixed(3) : count(value));
  return (
    <Section title="Counts">
      <FigureTable
        label="Counts"
        rows={Object.entries(comparison.counts)}
        rowKey={([name]) => name}
        columns={[
          { title: "figure", value: ([name]) => name },
          { title: comparison.before, number: true, value: ([, pair]) => Number(pair[0]), show: ([name, pair]) => show(name, Number(pair[0])) },
          { title: comparison.after, number: true, value: ([, pair]) => Number(pair[1]), show: ([name, pair]) => show(name, Number(pair[1])) },
        ]}
      />
    </Section>
  );
}

function Movers({ comparison }: { comparison: Schemas["Comparison"] }) {
  const names = useNames(comparison.after, "item", comparison.movers.map((each) => each.name)).data;
  return <Shares title="Items that moved most" column="item" rows={comparison.movers} comparison={comparison} show={(row) => <NamedItem id={row.name} name={names?.get(row.name)} />} />;
}

interface SharesProps {
  title: string;
  column: string;
  rows: Schemas["Drift"][];
  comparison: Schemas["Comparison"];
  show?: (row: Schemas["Drift"]) => ReactNode;
}

function Shares({ title, column, rows, comparison, show }: SharesProps) {
  return (
    <Section title={title}>
      <FigureTable
        label={title}
        rows={rows}
        rowKey={(row) => row.name}
        pageSize={12}
        columns={[
          { title: column, value: (row) => row.name, show },
          { title: comparison.before, number: true, value: (row) => row.before, show: (row) => percent(row.before) },
          { title: comparison.after, number: true, value: (row) => row.after, show: (row) => percent(row.after) },
        ]}
      />
    </Section>
  );
}
