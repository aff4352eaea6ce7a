import { Anchor, Button } from "@mantine/core";
import { Link, useParams } from "react-router";
import { useRuns, type RunSummary } from "../../api/contests";
import { FigureTable } from "../../parts/FigureTable";
import { moment } from "../../parts/format";
import { PageTitle, Section } from "../../parts/page";
import { Picker } from "../../parts/Picker";
import { Loaded, Empty } from "../../parts/states";
import { RunView } from "./RunView";

/** Runs of contests, and the leaderboard of one. */
export default function ContestsPage() {
  const { run } = useParams();
  const runs = useRuns();
  return (
    <Loaded query={runs}>
      {({ items }) => {
        // a name without a number is the newest run of it
        const chosen = items.find((each) => each.name === run || each.contest === run)?.name ?? run ?? items[0]?.name;
        if (!chosen) {
          return (
            <>
              <PageTitle title="Contests" />
              <Empty what="No contest has been run yet. A contest fits several models on the same data and says which is best.">
                <Button component={Link} to="/contests/new" size="xs">Write a contest</Button>
              </Empty>
            </>
          );
        }
        return (
          <>
            <PageTitle title={chosen}>
              <Button component={Link} to={`/contests/new?from=${chosen}`} size="xs" variant="default">Copy and change</Button>
              <Button component={Link} to="/contests/new" size="xs" variant="default">Write a contest</Button>
              <Picker label="Contest run" path="/contests" options={items.map((each) => each.name)} chosen={chosen} />
            </PageTitle>
            <RunView name={chosen} />
            <AllRuns runs={items} />
          </>
        );
      }}
    </Loaded>
  );
}

function AllRuns({ runs }: { runs: RunSummary[] }) {
  return (
    <Section title="All runs">
      <FigureTable
        label="All runs"
        rows={runs}
        rowKey={(row) => row.name}
        pageSize={10}
        columns={[
          { title: "run", value: (row) => row.name, show: (row) => <Anchor component={Link} to={`/contests/${row.name}`}>{row.name}</Anchor> },
          { title: "data", value: (row) => row.data },
          { title: "state", value: (row) => row.state },
          { title: "contenders", number: true, value: (row) => row.contenders },
          { title: "decided by", value: (row) => row.decide_by },
          { title: "winner", value: (row) => row.winner ?? null },
          { title: "begun", value: (row) => row.created_at, show: (row) => moment(row.created_at) },
        ]}
      />
    </Section>
  );
}
