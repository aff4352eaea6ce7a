import { Anchor } from "@mantine/core";
import { Link } from "react-router";
import type { Overview, ServedShelf } from "../../api/overview";
import { FigureTable } from "../../parts/FigureTable";
import { count, moment, percent } from "../../parts/format";
import { Section } from "../../parts/page";

function share(value: number | null | undefined): string {
  return value == null ? "–" : percent(value);
}

function refreshed({ refresh, next_refresh_at: next }: ServedShelf): string {
  const parts = refresh ? [`${refresh.state} ${moment(refresh.created_at)}`] : [];
  if (next) parts.push(`next ${moment(next)}`);
  return parts.join("; ") || "none";
}

/** Each shelf, and how it did in the last day. */
export function ServedShelves({ shelves }: { shelves: ServedShelf[] }) {
  return (
    <FigureTable
      label="Served shelves"
      rows={shelves}
      rowKey={(row) => row.shelf}
      columns={[
        { title: "shelf", value: (row) => row.shelf, show: (row) => <Anchor component={Link} to={`/shelves/${row.shelf}`}>{row.title || row.shelf}</Anchor> },
        { title: "serving", value: (row) => row.serving },
        { title: "data", value: (row) => row.data, show: (row) => <Anchor component={Link} to={`/data/${row.data}`}>{row.data}</Anchor> },
        { title: "lists, last day", number: true, value: (row) => row.lists, show: (row) => count(row.lists) },
        { title: "a minute, last hour", number: true, value: (row) => row.lists_last_hour / 60, show: (row) => (row.lists_last_hour / 60).toFixed(1) },
        { title: "by a fallback", number: true, value: (row) => row.fallbacks, show: (row) => share(row.fallbacks) },
        { title: "catalogue shown", number: true, value: (row) => row.catalogue_shown, show: (row) => share(row.catalogue_shown) },
        { title: "answered", number: true, value: (row) => row.answered, show: (row) => share(row.answered) },
        { title: "refresh", value: (row) => refreshed(row) },
      ]}
    />
  );
}

/** What came since the data of each shelf was made. */
export function ServedData({ datasets }: { datasets: Overview["datasets"] }) {
  return (
    <Section title="Events since the newest version">
      <FigureTable
        label="Events since the newest version"
        rows={datasets}
        rowKey={(row) => row.data}
        columns={[
          { title: "data", value: (row) => row.data, show: (row) => <Anchor component={Link} to={`/live/${row.data}`}>{row.data}</Anchor> },
          { title: "version", value: (row) => row.version },
          { title: "events", number: true, value: (row) => row.events, show: (row) => count(row.events) },
          { title: "last", value: (row) => row.last_at, show: (row) => (row.last_at ? moment(row.last_at) : "–") },
          { title: "drift of popularity", number: true, value: (row) => row.popularity_drift ?? null, show: (row) => row.popularity_drift?.toFixed(3) ?? "–" },
          { title: "by chance alone", number: true, value: (row) => row.drift_by_chance ?? null, show: (row) => row.drift_by_chance?.toFixed(3) ?? "–" },
        ]}
      />
    </Section>
  );
}
