import type { Schemas } from "../../../api/http";
import { listAt, type YamlFile, type Path } from "../../../parts/files/yamlFile";

export type Family = Schemas["Family"];

/** Keys of a contender that name no family. */
const OTHERS = ["as", "prepare", "tune", "without"];

/** A contender of a file. `params` is the place of its parameters, where it has any. */
export interface Contender {
  place: number;
  family: string;
  label: string;
  params: Record<string, unknown>;
  plain: boolean;
}

/** The contenders as the file has them; what names no family is passed over. */
export function contendersOf(file: YamlFile): Contender[] {
  return listAt(file, ["contenders"]).flatMap((entry, place): Contender[] => {
    if (typeof entry === "string") return [{ place, family: entry, label: entry, params: {}, plain: true }];
    if (entry === null || typeof entry !== "object") return [];
    const fields = entry as Record<string, unknown>;
    const family = Object.keys(fields).find((key) => !OTHERS.includes(key));
    if (family === undefined) return [];
    const params = fields[family];
    const named = typeof fields["as"] === "string" ? fields["as"] : family;
    return [{ place, family, label: named, params: params !== null && typeof params === "object" ? (params as Record<string, unknown>) : {}, plain: false }];
  });
}

/** Place and value that change a contender's parameter; undefined takes it back to its default. */
export function paramChange(contender: Contender, name: string, value: unknown): { path: Path; value: unknown } {
  const params = Object.fromEntries(Object.entries({ ...contender.params, [name]: value }).filter(([, each]) => each !== undefined));
  const empty = Object.keys(params).length === 0;
  if (contender.plain) return { path: ["contenders", contender.place], value: empty ? contender.family : { [contender.family]: params } };
  return { path: ["contenders", contender.place, contender.family], value: params };
}

/** Place and value that set one of a contender's own fields, such as `without`; undefined takes it away. */
export function fieldChange(contender: Contender, path: string[], value: unknown): { path: Path; value: unknown } {
  if (!contender.plain) return { path: ["contenders", contender.place, ...path], value };
  const nested = path.toReversed().reduce<unknown>((inner, key) => ({ [key]: inner }), value);
  return { path: ["contenders", contender.place], value: value === undefined ? contender.family : { [contender.family]: {}, ...(nested as object) } };
}

/** Families that learn from what the data holds, in their groups. */
export function fitting(families: Family[], rated: boolean): { group: string; items: { value: string; label: string }[] }[] {
  const groups = new Map<string, { value: string; label: string }[]>();
  for (const each of families) {
    if (each.predicts_values && !rated) continue;
    groups.set(each.group, [...(groups.get(each.group) ?? []), { value: each.family, label: each.family }]);
  }
  return [...groups].map(([group, items]) => ({ group, items }));
}
