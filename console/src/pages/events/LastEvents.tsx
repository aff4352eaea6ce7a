import { useNames } from "../../api/datasets";
import { useEvents } from "../../api/events";
import { FigureTable } from "../../parts/FigureTable";
import { NamedItem } from "../../parts/ids/NamedItem";
import { exactly } from "../../parts/format";
import { Section } from "../../parts/page";
import { Loaded } from "../../parts/states";

const SHOWN = 10;

/** The events that came last, the newest first. */
export function LastEvents({ name, version, every }: { name: string; version: string | null | undefined; every: number }) {
  const events = useEvents(name, SHOWN, every);
  const names = useNames(version, "item", events.data?.items.map((each) => each.item) ?? []).data;
  return (
    <Section title="Last events">
      <Loaded query={events}>
        {({ items }) => items.length === 0 ? <p className="quiet">No event has come yet.</p> : (
          <FigureTable
            label="Last events"
            rows={items.toReversed()}
            rowKey={(row) => `${row.source} ${row.id}`}
            columns={[
              { title: "at", value: (row) => row.time, show: (row) => exactly(row.time) },
              { title: "user", value: (row) => row.user },
              { title: "kind", value: (row) => row.kind ?? "", show: (row) => (row.value == null ? row.kind : `${row.kind ?? ""} ${row.value}`) },
              { title: "item", value: (row) => row.item, show: (row) => <NamedItem id={row.item} name={names?.get(row.item)} /> },
              { title: "from list", value: (row) => row.list_id ?? "" },
            ]}
          />
        )}
      </Loaded>
    </Section>
  );
}
