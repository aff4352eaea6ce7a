import { Anchor, Select } from "@mantine/core";
import { Link, useSearchParams } from "react-router";
import { useDataset, useVersionComparison, type DatasetVersion } from "../../api/datasets";
import { type Schemas } from "../../api/http";
import { FigureTable } from "../../parts/FigureTable";
import { count, moment, percent } from "../../parts/format";
import { Figures, Section } from "../../parts/page";
import { Asked, Empty } from "../../parts/states";

/** Every version of the dataset, and how one differs from another. */
export function VersionsView({ version }: { version: DatasetVersion }) {
  const [search, setSearch] = useSearchParams();
  const { dataset, number } = version;
  const all = useDataset(dataset);
  return (
    <Asked query={all}>
      {(found) => {
        const others = found.versions.filter((each) => each.number !== number);
        const other = Number(search.get("with")) || others.find((each) => each.number < number)?.number || others[0]?.number;
        return (
          <>
            <AllVersions versions={found.versions} />
            <Section
              title="Compare"
              side={others.length > 0 && <Select aria-label="Compare with" size="xs" w={160} data={others.map((each) => ({ value: String(each.number), label: each.name }))} value={String(other)} onChange={(next) => next && setSearch({ view: "versions", with: next })} />}
            >
              {other ? <Compared dataset={dataset} before={other} after={number} /> : <Empty what="There is one version only. This adds rows to it and makes the next:" command={`gleaner data add ${dataset} more.csv --onto ${version.name} --user ... --item ...`} />}
            </Section>
          </>
        );
      }}
    </Asked>
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
    <Asked query={query}>
      {(found) => {
        const figures: [string, string][] = [
          ["drift of popularity", found.popularity_drift.toFixed(3)],
          ["users new, gone", `${count(found.users_new)}, ${count(found.users_gone)}`],
          ["items new, gone", `${count(found.items_new)}, ${count(found.items_gone)}`],
        ];
        if (found.rank_correlation != null) figures.push(["rank correlation of items", found.rank_correlation.toFixed(3)]);
        if (found.value_drift != null) figures.push(["drift of values", found.value_drift.toFixed(3)]);
        if (found.value_means) figures.push(["mean value", found.value_means.map((mean) => mean.toFixed(3)).join(" to ")]);
        return (
          <>
            <p className="quiet">From {found.before} to {found.after}{found.same_content && ": the same content"}. Drift: half of the shares that moved; 0 the same, 1 nothing shared.</p>
            <Figures rows={figures} />
            <div className="columns">
              <Counts found={found} />
              {found.movers.length > 0 && <Shares title="Items that moved most" rows={found.movers} found={found} />}
              {(found.kinds ?? []).length > 0 && <Shares title="Kinds" rows={found.kinds ?? []} found={found} />}
              {(found.values ?? []).length > 0 && <Shares title="Values" rows={found.values ?? []} found={found} />}
            </div>
          </>
        );
      }}
    </Asked>
  );
}

function Counts({ found }: { found: Schemas["Comparison"] }) {
  const show = (name: string, value: number) => (name === "density" ? percent(value) : name === "gini" ? value.toFixed(3) : count(value));
  return (
    <Section title="Counts">
      <FigureTable
        label="Counts"
        rows={Object.entries(found.counts)}
        rowKey={([name]) => name}
        columns={[
          { title: "figure", value: ([name]) => name },
          { title: found.before, number: true, value: ([, pair]) => Number(pair[0]), show: ([name, pair]) => show(name, Number(pair[0])) },
          { title: found.after, number: true, value: ([, pair]) => Number(pair[1]), show: ([name, pair]) => show(name, Number(pair[1])) },
        ]}
      />
    </Section>
  );
}

function Shares({ title, rows, found }: { title: string; rows: Schemas["Drift"][]; found: Schemas["Comparison"] }) {
  return (
    <Section title={title}>
      <FigureTable
        label={title}
        rows={rows}
        rowKey={(row) => row.name}
        pageSize={12}
        columns={[
          { title: title === "Items that moved most" ? "item" : title.toLowerCase().replace(/s$/, ""), value: (row) => row.name },
          { title: found.before, number: true, value: (row) => row.before, show: (row) => percent(row.before) },
          { title: found.after, number: true, value: (row) => row.after, show: (row) => percent(row.after) },
        ]}
      />
    </Section>
  );
}
