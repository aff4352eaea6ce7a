import type { DatasetVersion } from "../../api/datasets";
import { count, moment, percent } from "../../parts/format";
import { Figures } from "../../parts/page";
import { Histogram, LongTail, OverTime, ValueHistogram } from "./charts";
import { activityRows, meanRows } from "./series";
import { ColdTable, ColumnsTable, SpreadTable } from "./tables";

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

function roles(version: DatasetVersion): string {
  const named = Object.entries(version.roles).filter(([, column]) => typeof column === "string");
  return named.map(([role, column]) => `${role} from ${String(column)}`).join(", ");
}

/** What the interactions of a version look like, from what is kept with it. */
export function ProfileView({ version }: { version: DatasetVersion }) {
  const { profile } = version;
  return (
    <>
      <Figures rows={facts(version)} />
      <p className="quiet">
        Imported {moment(version.created_at)}; content hash {version.content_hash.slice(0, 16)}; roles: {roles(version)}.
        {version.base && ` Rows were added to ${version.base}.`}
        {(version.forgotten ?? 0) > 0 && ` ${version.forgotten} users were forgotten since.`}
      </p>
      {profile.over_time && <OverTime profile={profile} />}
      <div className="columns">
        <LongTail profile={profile} />
        {profile.values && profile.values.n > 0 && <ValueHistogram values={profile.values} />}
        <Histogram title="Users by activity" rows={activityRows(profile, "user")} axis="rows of a user" what="users" />
        <Histogram title="Items by activity" rows={activityRows(profile, "item")} axis="rows of an item" what="items" />
        {profile.means?.user && <Histogram title="Users by mean value" rows={meanRows(profile, "user")} axis="mean value, from" what="users" />}
        {profile.means?.item && <Histogram title="Items by mean value" rows={meanRows(profile, "item")} axis="mean value, from" what="items" />}
        <SpreadTable profile={profile} />
        <ColdTable profile={profile} />
        <ColumnsTable title="Item columns" columns={version.item_columns ?? []} />
        <ColumnsTable title="User columns" columns={version.user_columns ?? []} />
        <ColumnsTable title="Context columns" columns={version.context_columns ?? []} />
      </div>
    </>
  );
}
