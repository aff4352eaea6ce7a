import { useQuery } from "@tanstack/react-query";
import { api, type DatasetVersion } from "../../api/client";
import { count, moment, percent } from "../../parts/format";
import { Figures, Section } from "../../parts/page";
import { Asked } from "../../parts/states";
import { LongTail, OverTime, ValueHistogram } from "./charts";
import { ColumnsTable, SpreadTable } from "./tables";

function facts(version: DatasetVersion): [string, string][] {
  const { profile } = version;
  const rows: [string, string][] = [
    ["rows", count(profile.rows)],
    ["users", count(profile.users)],
    ["items", count(profile.items)],
    ["density", percent(profile.density)],
    ["Gini of items", profile.gini.toFixed(2)],
  ];
  if (profile.span?.first && profile.span.last) {
    rows.push(["time span, UTC", `${profile.span.first.slice(0, 10)} to ${profile.span.last.slice(0, 10)}`]);
  }
  return rows;
}

/** Everything kept about one version. */
export function VersionView({ version }: { version: string }) {
  const query = useQuery({ queryKey: ["version", version], queryFn: () => api.version(version), staleTime: Infinity });
  return (
    <Asked query={query}>
      {(found) => (
        <>
          <Figures rows={facts(found)} />
          <p className="quiet">
            Imported {moment(found.created_at)}; content hash {found.content_hash.slice(0, 16)}; roles:{" "}
            {Object.entries(found.roles).filter(([, column]) => column).map(([role, column]) => `${role} from ${column}`).join(", ")}.
          </p>
          {found.profile.over_time && <OverTime profile={found.profile} />}
          <div className="columns">
            <LongTail profile={found.profile} />
            {found.profile.values && found.profile.values.n > 0 && <ValueHistogram values={found.profile.values} />}
            <SpreadTable profile={found.profile} />
            {found.notes && found.notes.length > 0 && <Notes notes={found.notes} />}
          </div>
          <div className="columns">
            <ColumnsTable title="Item columns" columns={found.item_columns ?? []} />
            <ColumnsTable title="User columns" columns={found.user_columns ?? []} />
          </div>
        </>
      )}
    </Asked>
  );
}

function Notes({ notes }: { notes: NonNullable<DatasetVersion["notes"]> }) {
  return (
    <Section title="What import found">
      <ul style={{ margin: 0, paddingLeft: "1.1rem" }}>
        {notes.map((note) => (
          <li key={note.text}>
            {note.level === "warning" && <strong className="warn">Attention: </strong>}
            {note.text}
            {note.examples && note.examples.length > 0 && <span className="quiet"> such as {note.examples.join(", ")}</span>}
          </li>
        ))}
      </ul>
    </Section>
  );
}
