import { parse, stringify } from "yaml";
import type { ImportRequest, Source } from "../../../api/imports";
import { emptyDraft, OTHER_PARTS, ROLES, type ImportDraft, type SourcePlace } from "./importDraft";

type Plain = Record<string, unknown>;

/** What stands where the file says nothing. */
const USUAL: Plain = { header: true, wide: false, strictness: "normal" };

/** Only what says something: no defaults, nothing empty. Files are named as they are called, wherever they were sent. */
function told(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(told);
  if (typeof value !== "object" || value === null) return value;
  const kept = Object.entries(value as Plain)
    .filter(([key]) => !["upload", "only_look"].includes(key) && !("url" in (value as Plain) && (value as Plain).url != null && key === "file"))
    .map(([key, each]) => [key, told(each)] as const)
    .filter(([key, each]) => each !== null && each !== undefined && USUAL[key] !== each && !(typeof each === "object" && Object.keys(each as object).length === 0));
  return Object.fromEntries(kept);
}

/** An import as its mapping file, such as `gleaner data add --map` takes it. */
export function mappingText(request: ImportRequest): string {
  return stringify(told(request), { lineWidth: 0 });
}

function sourceOf(given: unknown, place: string, known: Source[]): Source {
  if (typeof given !== "object" || given === null) throw new Error(`${place} must be a source: a file or a url`);
  const source = given as Source;
  if (source.url) return { ...source, file: source.file ?? source.url.split("/").at(-1) ?? place };
  const sent = known.find((each) => each.upload && each.file === source.file);
  if (!sent) throw new Error(`${place}: the file ${JSON.stringify(source.file ?? "")} was not dropped or chosen here`);
  return { ...source, upload: sent.upload, file: sent.file };
}

/** The draft as a mapping file has it. Files keep what was sent of them. Throws an Error that says what is wrong. */
export function withMapping(draft: ImportDraft, text: string): ImportDraft {
  const mapping = parse(text) as Plain | null;
  if (typeof mapping !== "object" || mapping === null || Array.isArray(mapping)) throw new Error("the file must hold fields such as interactions and roles");
  const known = [...Object.values(draft.sources), ...Object.values(draft.tables)];
  const parts = mapping.parts as Plain | undefined;
  const sources: ImportDraft["sources"] = {};
  const take = (place: SourcePlace, given: unknown, called: string) => {
    if (given !== undefined) sources[place] = sourceOf(given, called, known);
  };
  take("interactions", parts ? parts.training : mapping.interactions, parts ? "parts.training" : "interactions");
  for (const part of OTHER_PARTS) take(part, parts?.[part], `parts.${part}`);
  take("items", mapping.items, "items");
  take("users", mapping.users, "users");
  const tables = Object.entries((mapping.tables as Plain | undefined) ?? {}).map(([name, given]) => [name, sourceOf(given, `tables.${name}`, known)] as const);
  const roles = (mapping.roles as Plain | undefined) ?? {};
  const scale = mapping.scale as [number, number] | undefined;
  return {
    ...emptyDraft(),
    name: draft.name,
    sources,
    divided: parts !== undefined,
    tables: Object.fromEntries(tables),
    roles: Object.fromEntries(ROLES.map((role) => [role, (roles[role] as string | undefined) ?? null])),
    context: (roles.context as string[] | undefined) ?? [],
    scale: scale ?? ["", ""],
    outside: (mapping.outside as ImportDraft["outside"]) ?? null,
    strictness: (mapping.strictness as ImportDraft["strictness"] | undefined) ?? "normal",
    onto: (mapping.onto as number | undefined) ?? null,
  };
}
