import { Alert, Select } from "@mantine/core";
import { useRun, useRuns, type Run } from "../../api/contests";
import { FigureTable } from "../../parts/FigureTable";
import { figure } from "../../parts/format";
import { Section } from "../../parts/page";
import { useSearch } from "../../parts/search";
import { Loaded } from "../../parts/states";
import { differences, ofGround, type Difference } from "./differences";
import { figureOf } from "./Leaderboard";

/** Two runs side by side: what differs in their definitions, and the figures of both. */
export function BesideView({ run, metric, part }: { run: Run; metric: string; part: string }) {
  const [search, choose] = useSearch();
  const others = (useRuns().data?.items ?? []).filter((each) => each.name !== run.name);
  const beside = search.get("beside");
  if (others.length === 0) return null;
  // earlier and later runs of the same contest come first
  const ordered = others.toSorted((one, other) => Number(other.contest === run.contest) - Number(one.contest === run.contest));
  const picker = (
    <Select
      aria-label="Run beside it" placeholder="Choose a run" size="xs" w={220} searchable clearable
      data={ordered.map((each) => each.name)} value={beside} onChange={(value) => choose("beside", value)}
    />
  );
  return (
    <Section title="Beside another run" side={picker}>
      {beside ? <Two run={run} beside={beside} metric={metric} part={part} /> : <p className="quiet">Choose another run to see what differs in its definition, and its figures beside these.</p>}
    </Section>
  );
}

function Two({ run, beside, metric, part }: { run: Run; beside: string; metric: string; part: string }) {
  const query = useRun(beside);
  return (
    <Loaded query={query}>
      {(other) => {
        const found = differences(run.spec, other.spec);
        const apart = ofGround(found);
        return (
          <>
            {apart.length > 0 && (
              <Alert color="ochre" variant="outline" my="sm">
                The two are not of the same test users and items, for {apart.map(({ path }) => path).join(", ")} {apart.length === 1 ? "differs" : "differ"}: their figures cannot be told apart from
                that.
              </Alert>
            )}
            <Figures run={run} other={other} metric={metric} part={part} comparable={apart.length === 0} />
            <Settings run={run} other={other} found={found} />
          </>
        );
      }}
    </Loaded>
  );
}

interface FiguresProps {
  run: Run;
  other: Run;
  metric: string;
  part: string;
  comparable: boolean;
}

function Figures({ run, other, metric, part, comparable }: FiguresProps) {
  const meanOf = (of: Run, label: string) => {
    const standing = of.standings?.find((each) => each.contender === label);
    return (standing && figureOf(standing, metric, part)?.mean) ?? null;
  };
  const labels = [...new Set([run, other].flatMap((each) => each.spec.contenders.map((one) => one.label ?? one.family)))];
  const rows = labels.map((label) => ({ label, mine: meanOf(run, label), theirs: meanOf(other, label) }));
  const less = (row: (typeof rows)[number]) => (row.mine === null || row.theirs === null ? null : row.mine - row.theirs);
  return (
    <FigureTable
      label={`${metric} of ${run.name} and ${other.name}`} rows={rows} rowKey={(row) => row.label}
      columns={[
        { title: "contender", value: (row) => row.label },
        { title: run.name, number: true, value: (row) => row.mine, show: (row) => (row.mine === null ? "" : figure(row.mine)) },
        { title: other.name, number: true, value: (row) => row.theirs, show: (row) => (row.theirs === null ? "" : figure(row.theirs)) },
        ...(comparable ? [{ title: "difference", number: true, value: less, show: (row: (typeof rows)[number]) => signed(less(row)) }] : []),
      ]}
    />
  );
}

const signed = (value: number | null) => (value === null ? "" : `${value > 0 ? "+" : ""}${figure(value)}`);

function Settings({ run, other, found }: { run: Run; other: Run; found: Difference[] }) {
  if (found.length === 0) return <p>Both are defined alike.</p>;
  return (
    <FigureTable
      label="Settings that differ" rows={found} rowKey={(row) => row.path} pageSize={12}
      columns={[
        { title: "setting", value: (row) => row.path },
        { title: run.name, value: (row) => row.one },
        { title: other.name, value: (row) => row.other },
      ]}
    />
  );
}
