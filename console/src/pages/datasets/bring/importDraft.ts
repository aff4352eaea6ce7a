import type { ImportRequest, ProposalRequest, Source } from "../../../api/imports";
import { useDraft } from "../../../parts/files/draft";

/** The tables that can be brought in. */
export const TABLES = ["interactions", "items", "users"] as const;
export type TableName = (typeof TABLES)[number];

/** Parts of rows that were divided beforehand, beside the one for training. */
export const OTHER_PARTS = ["validation", "test"] as const;
export type SourcePlace = TableName | (typeof OTHER_PARTS)[number];

/** Roles of a column of the interactions, the needed ones first. */
export const ROLES = ["user", "item", "value", "kind", "time"] as const;
export type RoleName = (typeof ROLES)[number];

/** An import while it is being written. `roles` holds what was chosen by hand; null: this column has none after all.
 * divided: the rows come as files for training, validation and test, the first in the place of the interactions. */
export interface ImportDraft {
  name: string;
  sources: Partial<Record<SourcePlace, Source>>;
  divided: boolean;
  tables: Record<string, Source>;
  roles: Partial<Record<RoleName, string | null>>;
  context: string[];
  scale: [number | string, number | string];
  outside: ImportRequest["outside"];
  strictness: NonNullable<ImportRequest["strictness"]>;
  onto: number | null;
}

export function emptyDraft(): ImportDraft {
  return { name: "", sources: {}, divided: false, tables: {}, roles: {}, context: [], scale: ["", ""], outside: null, strictness: "normal", onto: null };
}

/** The import that this browser is writing. */
export function useImportDraft() {
  return useDraft("import", emptyDraft);
}

/** The draft with another source of one table; a dataset without a name takes that of its file. */
export function withSource(draft: ImportDraft, table: SourcePlace, source: Source | undefined): ImportDraft {
  const name = draft.name || (table === "interactions" && source ? nameOf(source.file ?? "") : "");
  return { ...draft, name, sources: { ...draft.sources, [table]: source } };
}

function nameOf(file: string): string {
  const stem = file.split("/").at(-1)?.split(".")[0] ?? "";
  return stem.toLowerCase().replaceAll(/[^a-z0-9_-]+/g, "-").replaceAll(/^[^a-z0-9]+|-+$/g, "").slice(0, 63);
}

/** What the service is asked to look into; null before there are interactions. */
export function proposalRequest({ sources, tables }: ImportDraft): ProposalRequest | null {
  const { interactions, items, users } = sources;
  return interactions ? { interactions, items: items ?? null, users: users ?? null, tables } : null;
}

/** Roles by their column: those proposed, and over them those chosen by hand. */
export function rolesOf(draft: ImportDraft, proposed: Record<string, string>): Partial<Record<RoleName, string>> {
  // a wide table makes these two columns itself
  const chosen: Partial<Record<RoleName, string>> = draft.sources.interactions?.wide ? { item: "item", value: "value" } : {};
  const taken = new Set([...Object.values(draft.roles), ...draft.context]);
  for (const role of ROLES) {
    const given = draft.roles[role];
    const column = given === undefined ? proposed[role] : given;
    if (column && (given !== undefined || !taken.has(column))) chosen[role] = column;
  }
  return chosen;
}

/** Columns that the service proposes for ids or names of the tables. */
export type TableColumns = Partial<Record<TableName, string>>;

/** The whole request; null while a needed role is open. */
export function importRequest(draft: ImportDraft, proposed: Record<string, string>, ids: TableColumns, names: TableColumns): ImportRequest | null {
  const { user, item, ...others } = rolesOf(draft, proposed);
  const { interactions } = draft.sources;
  if (!interactions || !user || !item) return null;
  const { validation, test } = draft.sources;
  if (draft.divided && !test) return null;
  // the other parts are read as the first is
  const read = (source: Source) => ({ ...interactions, upload: null, url: null, ...source });
  const table = (name: "items" | "users") => {
    const source = draft.sources[name];
    return source ? { ...source, id: source.id ?? ids[name] ?? null, name: source.name === undefined ? (names[name] ?? null) : source.name } : null;
  };
  const [low, high] = draft.scale;
  return {
    ...(draft.divided && test ? { parts: { training: interactions, validation: validation ? read(validation) : null, test: read(test) } } : { interactions }),
    tables: draft.tables,
    items: table("items"),
    users: table("users"),
    roles: { user, item, ...others, context: draft.context },
    scale: low === "" || high === "" ? null : [Number(low), Number(high)],
    outside: draft.outside,
    strictness: draft.strictness,
    onto: draft.onto,
  };
}
