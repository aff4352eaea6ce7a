import type { Schemas } from "../../api/http";
import { FigureTable } from "../../parts/FigureTable";
import { count, percent } from "../../parts/format";
import { Section } from "../../parts/page";

type State = Schemas["LiveState"];

const share = (part: number, whole: number) => (whole ? part / whole : 0);

/** What each shelf served in the last day, and what came back. */
export function ShelvesTable({ state }: { state: State }) {
  return (
    <Section title="Shelves, last day">
      {state.lists.length === 0 && <p className="quiet">No list was served.</p>}
      {state.lists.length > 0 && (
        <FigureTable
          label="Shelves"
          rows={state.lists}
          rowKey={(row) => row.shelf}
          columns={[
            { title: "shelf", value: (row) => row.shelf },
            { title: "lists", number: true, value: (row) => row.lists, show: (row) => count(row.lists) },
            { title: "users", number: true, value: (row) => row.users, show: (row) => count(row.users) },
            { title: "by a fallback", number: true, value: (row) => share(row.fallbacks, row.lists), show: (row) => percent(share(row.fallbacks, row.lists)) },
            { title: "catalogue shown", number: true, value: (row) => share(row.items_shown, state.catalogue), show: (row) => percent(share(row.items_shown, state.catalogue)) },
            { title: "answered", number: true, value: (row) => share(row.answered, row.lists), show: (row) => percent(share(row.answered, row.lists)) },
            { title: "events at places 1 to 10", value: (row) => row.events, show: (row) => row.by_place.join(" ") },
          ]}
        />
      )}
    </Section>
  );
}

/** How long calls took in the process that answers this page. */
export function RouteTimesTable({ waits }: { waits: Schemas["RouteTimes"][] }) {
  return (
    <Section title="Calls of this process">
      <FigureTable
        label="Calls"
        rows={waits}
        rowKey={(row) => row.route}
        columns={[
          { title: "route", value: (row) => row.route, show: (row) => <code>{row.route}</code> },
          { title: "calls", number: true, value: (row) => row.calls, show: (row) => count(row.calls) },
          { title: "half within", number: true, value: (row) => row.p50_ms, show: (row) => `${row.p50_ms.toFixed(1)} ms` },
          { title: "99 % within", number: true, value: (row) => row.p99_ms, show: (row) => `${row.p99_ms.toFixed(1)} ms` },
        ]}
      />
    </Section>
  );
}
