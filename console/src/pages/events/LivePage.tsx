import { useParams } from "react-router";
import { useDatasets } from "../../api/datasets";
import { useLive } from "../../api/events";
import { type Schemas } from "../../api/http";
import { count, moment, percent } from "../../parts/format";
import { Figures, PageTitle } from "../../parts/page";
import { Picker } from "../../parts/Picker";
import { Loaded, Empty } from "../../parts/states";
import { FirstData } from "../datasets/bring/FirstData";
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

function LiveView({ name }: { name: string }) {
  const state = useLive(name, EVERY_MS);
  return (
    <Loaded query={state}>
      {(live) => (
        <>
          <Figures rows={facts(live)} />
          <p className="quiet">
            Since {live.version} was made{live.last_at && <>; the last event came {moment(live.last_at)}</>}.
            {live.drift && <> {percent(live.drift.unknown_users)} of the events are by users it does not have, {percent(live.drift.unknown_items)} on items it does not have.</>}
          </p>
          {live.events === 0 && <Empty what={`No event came since ${live.version} was made; any that are listed below are older. This sends one:`} command={`gleaner events send ${name} --user USER --item ITEM`} />}
          <LastHour state={live} />
          <ShelvesTable state={live} />
          {live.drift && <DriftView drift={live.drift} version={live.version} />}
          <LastEvents name={name} version={live.version} every={EVERY_MS} />
          <RouteTimesTable waits={live.waits} />
        </>
      )}
    </Loaded>
  );
}
