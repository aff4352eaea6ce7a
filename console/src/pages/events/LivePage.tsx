import { Button } from "@mantine/core";
import { Link, useParams, useSearchParams } from "react-router";
import { useDatasets, useVersion } from "../../api/datasets";
import { useLive } from "../../api/events";
import { type Schemas } from "../../api/http";
import { count, moment, percent } from "../../parts/format";
import { Figures, PageTitle, Section } from "../../parts/page";
import { Picker } from "../../parts/Picker";
import { Loaded, Empty } from "../../parts/states";
import { FirstData } from "../datasets/bring/FirstData";
import { ChangeCell } from "./actions/ChangeCell";
import { Gather } from "./actions/Gather";
import { SendEvent } from "./actions/SendEvent";
import { DriftView } from "./DriftView";
import { LastEvents } from "./LastEvents";
import { LastHour } from "./LastHour";
import { ShelvesTable, RouteTimesTable } from "./tables";

type State = Schemas["LiveState"];

const EVERY_MS = 2_000;

/** What comes in and goes out just now, and how far it is from what models learned. */
export default function LivePage() {
  const { dataset } = useParams();
  const datasets = useDatasets();
  return (
    <Loaded query={datasets}>
      {({ items }) => {
        const chosen = dataset ?? items[0]?.name;
        if (!chosen) {
          return (
            <>
              <PageTitle title="Live" />
              <FirstData />
            </>
          );
        }
        return (
          <>
            <PageTitle title={`Live: ${chosen}`}>
              <Picker label="Dataset" path="/live" options={items.map((each) => each.name)} chosen={chosen} />
            </PageTitle>
            <LiveView name={chosen} key={chosen} />
          </>
        );
      }}
    </Loaded>
  );
}

function facts(state: State): [string, string][] {
  return [
    ["events", count(state.events)],
    ["in memory", count(state.in_memory)],
    ["new users", count(state.users_new)],
    ["new items", count(state.items_new)],
    ["rows with changed columns", count(state.changed_rows)],
    ["lists, last hour", count(state.lists_per_minute.reduce((sum, each) => sum + each, 0))],
  ];
}

const VIEWS = [
  { name: "", title: "As it comes" },
  { name: "hand", title: "By hand" },
];

function LiveView({ name }: { name: string }) {
  const [search] = useSearchParams();
  const view = search.get("view") === "hand" ? "hand" : "";
  const state = useLive(name, EVERY_MS);
  return (
    <Loaded query={state}>
      {(live) => (
        <>
          <nav className="views" aria-label={`Parts of ${name}`}>
            {VIEWS.map((each) => (
              <Link key={each.name} to={each.name ? `/live/${name}?view=${each.name}` : `/live/${name}`} aria-current={each.name === view ? "true" : undefined}>
                {each.title}
              </Link>
            ))}
          </nav>
          <Figures rows={facts(live)} />
          {view === "hand" ? <ByHand live={live} /> : <AsItComes name={name} live={live} />}
        </>
      )}
    </Loaded>
  );
}

function AsItComes({ name, live }: { name: string; live: State }) {
  return (
    <>
      <p className="quiet">
        Since {live.version} was made{live.last_at && <>; the last event came {moment(live.last_at)}</>}.
        {live.drift && <> {percent(live.drift.unknown_users)} of the events are by users it does not have, {percent(live.drift.unknown_items)} on items it does not have.</>}
      </p>
      {live.events === 0 && (
        <Empty what={`No event came since ${live.version} was made; any that are listed below are older. This sends one:`} command={`gleaner events send ${name} --user USER --item ITEM`}>
          <Button component={Link} to={`/live/${name}?view=hand`} size="xs" variant="default">Send one by hand</Button>
        </Empty>
      )}
      <LastHour state={live} />
      <ShelvesTable state={live} />
      {live.drift && <DriftView drift={live.drift} version={live.version} />}
      <LastEvents name={name} version={live.version} every={EVERY_MS} />
      <RouteTimesTable waits={live.waits} />
    </>
  );
}

/** What a person can do here that programs do otherwise. */
function ByHand({ live }: { live: State }) {
  const version = useVersion(live.version);
  return (
    <>
      <Loaded query={version}>
        {(known) => (
          <>
            <Section title="Send an event"><SendEvent version={known} /></Section>
            <Section title="Change what the tables say">
              <p className="quiet">Conditions, limits and lists see it at once. A later version that brings a table of its own takes its place.</p>
              <ChangeCell version={known} />
            </Section>
          </>
        )}
      </Loaded>
      <Section title="Keep what came"><Gather live={live} /></Section>
    </>
  );
}
