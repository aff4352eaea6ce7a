import { NAME_COLUMNS } from "../../../parts/ids/named";

/** A condition that fits the columns at hand; a name would keep one item only. */
export function exampleOf(columns: Record<string, unknown> | undefined): string | undefined {
  const told = Object.entries(columns ?? {}).filter(([name, value]) => value != null && !NAME_COLUMNS.includes(name));
  const text = told.find(([, value]) => typeof value === "string");
  if (text) return `${text[0]} = '${String(text[1])}'`;
  const number = told.find(([, value]) => typeof value === "number");
  return number && `${number[0]} >= ${String(number[1])}`;
}
