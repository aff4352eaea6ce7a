import { nameIn } from "../parts/ids/named";
import { keepPreviousData, useMutation, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, http, versionPath, type Schemas } from "./http";

export type Dataset = Schemas["Dataset"];
export type DatasetVersion = Schemas["DatasetVersion"];
export type History = Schemas["History"];
export type UserSummary = Schemas["UserSummary"];

/** The tables of a version. */
export type TableName = "interactions" | "items" | "users";

const SUGGESTED = 20;
const HISTORY = 100;
const MOST_ROWS_OF_A_FILE = 1_000_000;
const KEPT_MS = 60_000;

/** Every dataset. */
export function useDatasets() {
  return useQuery({ queryKey: ["datasets"], queryFn: () => answer(http.GET("/v1/datasets", { params: { query: { limit: 200 } } })) });
}

/** A dataset with its versions. */
export function useDataset(name: string) {
  return useQuery({ queryKey: ["dataset", name], queryFn: () => answer(http.GET("/v1/datasets/{name}", { params: { path: { name } } })) });
}

/** One version, such as seeds@3. */
export function useVersion(version: string | null | undefined) {
  return useQuery({
    queryKey: ["version", version],
    queryFn: () => answer(http.GET("/v1/datasets/{name}/versions/{number}", { params: { path: versionPath(version ?? "") } })),
    staleTime: KEPT_MS,
    enabled: !!version,
  });
}

/** The first rows of a table, or so many drawn by chance. */
export function useRows(version: string, table: TableName, where: string, drawn: boolean, limit: number) {
  return useQuery({
    queryKey: ["rows", version, table, where, drawn],
    queryFn: () =>
      answer(
        http.GET("/v1/datasets/{name}/versions/{number}/rows", {
          params: { path: versionPath(version), query: { table, where: where || undefined, sample: drawn ? limit : undefined, limit } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
}

/** What items or users of a version are called, by their ids; nothing where its table does not say, or it has none. */
export function useNames(version: string | null | undefined, side: "item" | "user", wanted: string[]) {
  const described = useVersion(version).data?.[`${side}_columns`]?.length;
  const ids = [...new Set(wanted)].sort();
  const where = `id IN (${ids.map((each) => `'${each.replaceAll("'", "''")}'`).join(", ")})`;
  return useQuery({
    queryKey: ["names", version, side, where],
    queryFn: async () => {
      const page = await answer(http.GET("/v1/datasets/{name}/versions/{number}/rows", { params: { path: versionPath(version ?? ""), query: { table: `${side}s`, where, limit: ids.length } } }));
      const columns = page.columns.map((each) => each.name);
      const rows = page.rows.map((row) => Object.fromEntries(columns.map((name, place) => [name, row[place]])));
      return new Map(rows.map((row) => [String(row["id"]), nameIn(row)]));
    },
    enabled: !!described && ids.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** A row of the item or user table, by its columns; none where the table lacks the id. */
export function useRow(version: string, side: "item" | "user", id: string) {
  const where = `id = '${id.replaceAll("'", "''")}'`;
  return useQuery({
    queryKey: ["row", version, side, id],
    queryFn: async () => {
      const { columns, rows: [row] } = await answer(http.GET("/v1/datasets/{name}/versions/{number}/rows", { params: { path: versionPath(version), query: { table: `${side}s`, where, limit: 1 } } }));
      return row ? Object.fromEntries(columns.map((each, place) => [each.name, row[place] as unknown])) : null;
    },
    enabled: id !== "",
    retry: false,
  });
}

/** What a query of the version's tables answers; nothing is asked without one. */
export function useSql(version: string, sql: string) {
  return useQuery({
    queryKey: ["sql", version, sql],
    queryFn: () => answer(http.POST("/v1/datasets/{name}/versions/{number}/query", { params: { path: versionPath(version) }, body: { sql } })) as Promise<Schemas["QueryAnswer"]>,
    enabled: sql !== "",
    retry: false,
  });
}

/** The whole answer of a query as a file. */
export function useSqlFile(version: string, sql: string, onDone: (content: Blob, form: "csv" | "parquet") => void) {
  return useMutation({
    mutationFn: (format: "csv" | "parquet") =>
      answer(
        http.POST("/v1/datasets/{name}/versions/{number}/query", {
          params: { path: versionPath(version), query: { format } },
          body: { sql, limit: MOST_ROWS_OF_A_FILE },
          parseAs: "blob",
        }),
      ) as Promise<Blob>,
    onSuccess: onDone,
  });
}

/** Where a table of a version can be fetched. */
export function tableFile(version: string, table: string): string {
  const { name, number } = versionPath(version);
  return `/v1/datasets/${encodeURIComponent(name)}/versions/${number}/files/${table}`;
}

/** Columns and rows as a Parquet file. */
export function toParquet(columns: string[], rows: (string | number | null)[][]): Promise<Blob> {
  return answer(http.POST("/v1/tables", { body: { columns, rows }, parseAs: "blob" })) as Promise<Blob>;
}

/** Fetches items whose id holds a text. */
export const findItems = (version: string, search: string) =>
  answer(http.GET("/v1/datasets/{name}/versions/{number}/items/search", { params: { path: versionPath(version), query: { search, limit: SUGGESTED } } }));

const findUsers = (version: string, search: string) =>
  answer(http.GET("/v1/datasets/{name}/versions/{number}/users", { params: { path: versionPath(version), query: { search, limit: SUGGESTED } } }));

/** A user or an item, and what the tables call it. */
export interface Match {
  id: string;
  label: string | null;
}

/** Fetches users, or items, whose id or any column of text holds a text: those that are called so come first. */
export async function fetchMatches(version: string, side: "user" | "item", search: string): Promise<Match[]> {
  return side === "user"
    ? (await findUsers(version, search)).map((each) => ({ id: each.user, label: each.label ?? null }))
    : (await findItems(version, search)).map((each) => ({ id: each.item, label: each.label ?? null }));
}

/** The same, kept current while it is typed. */
export function useMatches(version: string, side: "user" | "item", search: string) {
  return useQuery({
    queryKey: ["matches", side, version, search],
    queryFn: () => fetchMatches(version, side, search),
    enabled: version !== "",
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** Users and items of several versions whose id or any column of text holds a text; nothing is asked without one. */
export function useMatchesOf(versions: string[], search: string) {
  const sides = ["item", "user"] as const;
  return useQueries({
    queries: versions.flatMap((version) =>
      sides.map((side) => ({
        queryKey: ["matches", side, version, search],
        queryFn: () => fetchMatches(version, side, search),
        enabled: search !== "",
        retry: false,
        select: (matches: Match[]) => ({ version, side, matches }),
      })),
    ),
    combine: (results) => results.flatMap((each) => each.data ?? []),
  });
}

/** Who has an item, and what is like it; nothing is asked without one. */
export function useItem(version: string, item: string) {
  return useQuery({
    queryKey: ["item", version, item],
    queryFn: () => answer(http.GET("/v1/datasets/{name}/versions/{number}/items", { params: { path: versionPath(version), query: { item, n: 20 } } })),
    enabled: item !== "",
  });
}

/** What several users have in common. */
export function useOverlap(version: string, users: string[]) {
  return useQuery({
    queryKey: ["overlap", version, users],
    queryFn: () => answer(http.GET("/v1/datasets/{name}/versions/{number}/overlap", { params: { path: versionPath(version), query: { user: users } } })),
    enabled: users.length > 1,
    placeholderData: keepPreviousData,
  });
}

/** How the columns of a table are encoded for models. */
export function useEncoding(version: string, table: "items" | "users") {
  return useQuery({
    queryKey: ["features", version, table],
    queryFn: () => answer(http.GET("/v1/datasets/{name}/versions/{number}/features", { params: { path: versionPath(version), query: { table } } })),
    staleTime: Infinity,
  });
}

/** What a user did; nothing is asked without one. */
export function useHistory(version: string, user: string, limit = HISTORY) {
  return useQuery({
    queryKey: ["history", version, user, limit],
    queryFn: () => answer(http.GET("/v1/datasets/{name}/versions/{number}/history", { params: { path: versionPath(version), query: { user, limit } } })),
    enabled: user !== "",
    placeholderData: keepPreviousData,
  });
}

/** Takes a version's data away. */
export function useRemoveVersion(version: string, onDone: () => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () => answer(http.DELETE("/v1/datasets/{name}/versions/{number}", { params: { path: versionPath(version) } })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["datasets"] });
      onDone();
    },
  });
}

/** Removes every row of a user from every version. */
export function useForgetUser(name: string, onBegun: (job: Schemas["Job"]) => void) {
  return useMutation({
    mutationFn: (user: string) => answer(http.POST("/v1/datasets/{name}/forget", { params: { path: { name } }, body: { user } })) as Promise<Schemas["Job"]>,
    onSuccess: onBegun,
  });
}

/** What changed between two versions. */
export function useVersionComparison(name: string, before: number, after: number) {
  return useQuery({
    queryKey: ["compare", name, before, after],
    queryFn: () => answer(http.GET("/v1/datasets/{name}/compare", { params: { path: { name }, query: { before, after } } })),
  });
}

/** Begins to divide a version as a file says. */
export function useBeginSplit(version: string, onBegun: (job: Schemas["Job"]) => void) {
  return useMutation({
    mutationFn: (file: string) =>
      answer(http.POST("/v1/datasets/{name}/versions/{number}/split", { params: { path: versionPath(version) }, body: { file, name: "split.yaml" } })),
    onSuccess: onBegun,
  });
}

/** What a split that is done came to. */
export function useSplitReport(job: number | null, done: boolean) {
  return useQuery({
    queryKey: ["split", job],
    queryFn: () => answer(http.GET("/v1/splits/{job}", { params: { path: { job: job ?? 0 } } })),
    enabled: done,
  });
}
