import { Anchor, Button } from "@mantine/core";
import { Link } from "react-router";
import { type Schemas } from "../../api/http";
import { isRefreshing, useRefreshNow, useRefreshes } from "../../api/shelves";
import { FigureTable } from "../../parts/FigureTable";
import { moment } from "../../parts/format";
import { Section } from "../../parts/page";
import { Loaded, Failed } from "../../parts/states";

type Refresh = Schemas["Refresh"];

/** What became of the shelf's refreshes, and one now. */
export function RefreshLog({ shelf }: { shelf: string }) {
  const query = useRefreshes(shelf);
  const now = useRefreshNow(shelf);
  const isUnderWay = query.data?.refreshes.items.some(isRefreshing) ?? false;
  return (
    <Section title="Refreshes" side={<Button size="compact-xs" variant="default" loading={now.isPending} disabled={isUnderWay} onClick={() => now.mutate()}>Refresh now</Button>}>
      {now.error && <Failed error={now.error} />}
      <Loaded query={query}>
        {(log) => (
          <>
            {log.refreshes.items.length > 0 && <RefreshTable rows={log.refreshes.items} />}
            <p className="quiet">
              {log.refreshes.items.length === 0 && "None yet. "}
              A refresh takes new events into the data, fits the models anew, has the guard judge, and serves them if they pass.{" "}
              {log.next_at ? `The next is due ${moment(log.next_at)}.` : "None is planned: the file names no refresh.every."}
            </p>
          </>
        )}
      </Loaded>
    </Section>
  );
}

function RefreshTable({ rows }: { rows: Refresh[] }) {
  return (
    <FigureTable
      label="Refreshes"
      rows={rows}
      rowKey={(row) => String(row.id)}
      columns={[
        { title: "begun", value: (row) => row.created_at, show: (row) => <Anchor component={Link} to={`/jobs/${row.job}`}>{moment(row.created_at)}</Anchor> },
        { title: "from", value: (row) => row.began_from },
        { title: "data", value: (row) => row.data ?? "" },
        { title: "events", number: true, value: (row) => row.events ?? null },
        { title: "new", number: true, value: (row) => row.guard?.new?.mean ?? null, show: (row) => row.guard?.new?.mean.toFixed(4) ?? "" },
        { title: "current", number: true, value: (row) => row.guard?.current?.mean ?? null, show: (row) => row.guard?.current?.mean.toFixed(4) ?? "" },
        { title: "users", number: true, value: (row) => row.guard?.users ?? null },
        { title: "ended", value: (row) => row.state, show: (row) => <Ended row={row} /> },
      ]}
    />
  );
}

function Ended({ row }: { row: Refresh }) {
  return (
    <>
      <span className={row.state === "published" || isRefreshing(row) ? undefined : "warn"}>{row.state}</span> {row.published}
      {row.reason && <div className="quiet">{row.reason}</div>}
    </>
  );
}
