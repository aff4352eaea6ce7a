import type { Schemas } from "../../api/client";

export type TimeRow = { at: string } & Record<string, number | string>;

/** Points by period and kind as one row a period, every kind present; kinds in order of how many rows they have. */
export function byPeriod(profile: Schemas["Profile"]): { rows: TimeRow[]; kinds: string[] } {
  const kinds = profile.kinds?.map((each) => each.kind ?? "(none)") ?? ["rows"];
  const rows = new Map<string, TimeRow>();
  for (const point of profile.over_time?.points ?? []) {
    const row = rows.get(point.at) ?? { at: point.at, ...Object.fromEntries(kinds.map((kind) => [kind, 0])) };
    row[profile.kinds ? (point.kind ?? "(none)") : "rows"] = point.rows;
    rows.set(point.at, row);
  }
  return { rows: [...rows.values()], kinds };
}
