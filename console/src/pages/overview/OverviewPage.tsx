import { Anchor, Button } from "@mantine/core";
import { Link } from "react-router";
import { useOverview, type Overview } from "../../api/overview";
import { count } from "../../parts/format";
import { Figures, PageTitle, Section } from "../../parts/page";
import { Empty, Loaded } from "../../parts/states";
import { FirstData } from "../datasets/bring/FirstData";
import { RunningJobs } from "../jobs/RunningJobs";
import { ServedData, ServedShelves } from "./served";

/** Where to look first: what needs attention, what is served and how it does, and what runs. */
export default function OverviewPage() {
  const overview = useOverview();
  return (
    <>
      <PageTitle title="Overview" />
      <Loaded query={overview}>{(answer) => (answer.totals.datasets === 0 && answer.running.length === 0 ? <FirstData /> : <State overview={answer} />)}</Loaded>
    </>
  );
}

const PATHS = { job: "/jobs/", shelf: "/shelves/", dataset: "/live/" };

function State({ overview }: { overview: Overview }) {
  const { totals, attention, shelves, datasets, lists, running } = overview;
  return (
    <>
      <Figures
        rows={[
          ["datasets", count(totals.datasets)],
          ["contest runs", count(totals.runs)],
          ["models", count(totals.models)],
          ["shelves", count(totals.shelves)],
        ]}
      />
      {attention.length > 0 && (
        <Section title="Needs attention">
          <ul className="findings">
            {attention.map((each) => (
              <li key={each.text}>
                <Anchor component={Link} to={PATHS[each.about] + each.name}>{each.text}</Anchor>
              </li>
            ))}
          </ul>
        </Section>
      )}
      <Section title="Served">{shelves.length > 0 ? <ServedShelves shelves={shelves} /> : <NextStep overview={overview} />}</Section>
      {datasets.length > 0 && <ServedData datasets={datasets} />}
      {lists.map((route) => (
        <p className="quiet" key={route.route}>
          <code>{route.route}</code>: half of {count(route.calls)} calls within {route.p50_ms.toFixed(1)} ms, 99 % within {route.p99_ms.toFixed(1)} ms, in the process that answers.
        </p>
      ))}
      <RunningJobs title="At work" jobs={running} />
    </>
  );
}

/** What comes next where nothing is served. */
function NextStep({ overview: { totals } }: { overview: Overview }) {
  if (totals.models > 0) {
    return (
      <Empty what="There are models, and none is served yet. A shelf serves one: what it lists, to whom, in which order.">
        <Button component={Link} to="/shelves/new" size="xs">Build a shelf</Button>
      </Empty>
    );
  }
  return (
    <Empty what="There is data, and no model yet. A contest fits several on the same data and says which is best.">
      <Button component={Link} to="/contests/new" size="xs">Write a contest</Button>
    </Empty>
  );
}
