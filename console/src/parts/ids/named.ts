import type { Answer } from "../../api/shelves";

/** An item as people know it. */
export interface Item {
  id: string;
  name: string;
  unknown?: boolean;
}

/** Columns with what people call a thing, as the service looks for them: the first that a table has. */
export const NAME_COLUMNS = ["name", "title", "label"];

/** What people call a thing, where its columns say. */
export function nameIn(columns: Record<string, unknown> | undefined): string | undefined {
  const column = NAME_COLUMNS.find((each) => columns && each in columns);
  const name = column && columns?.[column];
  return name ? String(name) : undefined;
}

/** A place of a list as an item with its name, where the list has one. */
export function named(place: Answer["list"][number]): Item {
  return { id: place.item, name: nameIn(place.columns) ?? place.item };
}
