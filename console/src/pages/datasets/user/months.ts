/** A row with a time as the service writes it, and a kind where the data has kinds. */
interface TimedRow {
  time?: string | null;
  kind?: string | null;
}

export interface Month {
  /** Year and month, such as 2026-03. */
  month: string;
  counts: Record<string, number>;
}

const NO_KIND = "rows";

/** Counts rows by month and kind, months in order and none left out between the first and the last. */
export function monthsByKind(rows: TimedRow[]): { months: Month[]; kinds: string[] } {
  const byMonth = new Map<string, Record<string, number>>();
  const totals: Record<string, number> = {};
  for (const { time, kind } of rows) {
    if (!time) continue;
    const name = kind ?? NO_KIND;
    const counts = byMonth.get(time.slice(0, 7)) ?? {};
    counts[name] = (counts[name] ?? 0) + 1;
    totals[name] = (totals[name] ?? 0) + 1;
    byMonth.set(time.slice(0, 7), counts);
  }
  const kinds = Object.keys(totals).sort((one, other) => (totals[other] ?? 0) - (totals[one] ?? 0));
  const named = [...byMonth.keys()].sort();
  return { months: between(named[0], named.at(-1)).map((month) => ({ month, counts: byMonth.get(month) ?? {} })), kinds };
}

function between(first: string | undefined, last: string | undefined): string[] {
  const months: string[] = [];
  if (first === undefined || last === undefined) return months;
  let [year, month] = first.split("-").map(Number) as [number, number];
  for (let name = first; name <= last; name = `${String(year).padStart(4, "0")}-${String(month).padStart(2, "0")}`) {
    months.push(name);
    [year, month] = month === 12 ? [year + 1, 1] : [year, month + 1];
  }
  return months;
}
