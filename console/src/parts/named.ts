import type { Answer } from "../api/shelves";

/** An item as people know it. */
export interface Item {
  id: string;
  name: string;
  unknown?: boolean;
}

/** A place of a list as an item with its name, where the list has one. */
export function named(place: Answer["list"][number]): Item {
  const name = place.columns?.["name"];
  return { id: place.item, name: typeof name === "string" ? name : place.item };
}
