import type { Schemas } from "../../api/http";

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

/** One bar: its label and how many. */
export interface Bar {
  label: string;
  count: number;
}

/** How many users or items have how many rows. */
export function activityRows(profile: Schemas["Profile"], side: "user" | "item"): Bar[] {
  const bins = profile.activity?.[side] ?? [];
  return bins.map((bin, place) => {
    const next = bins[place + 1];
    const label = !next ? `${bin.at}+` : next.at - 1 > bin.at ? `${bin.at}-${next.at - 1}` : String(bin.at);
    return { label, count: bin.count };
  });
}

/** How many users or items have which mean value. */
export function meanRows(profile: Schemas["Profile"], side: "user" | "item"): Bar[] {
  return (profile.means?.[side] ?? []).map((bin) => ({ label: bin.at.toFixed(2), count: bin.rows }));
}
