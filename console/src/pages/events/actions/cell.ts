import type { Schemas } from "../../../api/http";

export type Column = Schemas["TableColumn"];

/** What a typed text stands for in a column; nothing typed is a missing value. Throws an Error that says what fits. */
export function cellOf(text: string, column: Column): unknown {
  const typed = text.trim();
  if (typed === "") return null;
  switch (column.type) {
    case "number":
      if (!Number.isFinite(Number(typed))) throw new Error(`${column.name} holds numbers.`);
      return Number(typed);
    case "flag":
      if (!["true", "false"].includes(typed)) throw new Error(`${column.name} holds true or false.`);
      return typed === "true";
    case "categories":
      return typed.split(column.separator ?? ",").map((each) => each.trim()).filter((each) => each !== "");
    default:
      return typed;
  }
}

/** How a cell of a column is written. */
export function hintOf(column: Column): string {
  if (column.type === "flag") return "true or false";
  if (column.type === "categories") return `several, with ${column.separator ?? ","} between`;
  if (column.type === "date") return "as 2026-03-01";
  return column.type === "number" ? "a number" : "a text";
}

/** A cell of a table as it would be typed. */
export function typedOf(value: unknown, column: Column): string {
  if (value == null) return "";
  return Array.isArray(value) ? value.join(column.separator ?? ",") : String(value);
}
