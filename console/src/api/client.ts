import type { components } from "./schema";

export type Schemas = components["schemas"];
export type Dataset = Schemas["Dataset"];
export type DatasetVersion = Schemas["DatasetVersion"];
export type Run = Schemas["Run"];
export type RunSummary = Schemas["RunSummary"];
export type Standing = Schemas["Standing"];
export type ModelSummary = Schemas["ModelSummary"];
export type ModelCard = Schemas["ModelCard"];
export type ShelfSummary = Schemas["ShelfSummary"];
export type ShelfVersion = Schemas["ShelfVersion"];
export type Answer = Schemas["RecommendationAnswer"];
export type History = Schemas["History"];
export type Job = Schemas["Job"];
export type JobDetail = Schemas["JobDetail"];
export type UserSummary = Schemas["UserSummary"];

/** An answer other than success, with the problem document's own words. */
export class ApiError extends Error {
  constructor(
    message: string,
    readonly status: number,
  ) {
    super(message);
  }
}

type Query = Record<string, string | number | boolean | string[] | undefined>;

async function answer(method: string, path: string, query?: Query, body?: unknown): Promise<Response> {
  const url = new URL(path, window.location.origin);
  for (const [name, value] of Object.entries(query ?? {})) {
    if (Array.isArray(value)) value.forEach((each) => url.searchParams.append(name, each));
    else if (value !== undefined) url.searchParams.set(name, String(value));
  }
  const response = await fetch(url, {
    method,
    headers: body === undefined ? {} : { "Content-Type": "application/json" },
    body: body === undefined ? undefined : JSON.stringify(body),
  }).catch(() => {
    throw new ApiError("The service does not answer.", 0);
  });
  if (!response.ok) {
    const problem = await response.json().catch(() => ({ detail: response.statusText }));
    throw new ApiError(problem.detail, response.status);
  }
  return response;
}

async function send<T>(method: string, path: string, query?: Query, body?: unknown): Promise<T> {
  return (await answer(method, path, query, body)).json();
}

async function fetchFile(path: string, query: Query, body: unknown): Promise<Blob> {
  return (await answer("POST", path, query, body)).blob();
}

const name = encodeURIComponent;

/** Splits `seeds@3` into its dataset and number. */
export function splitVersion(version: string): [string, number] {
  const [dataset = "", number = "1"] = version.split("@");
  return [dataset, Number(number)];
}

function versionPath(version: string): string {
  const [dataset, number] = splitVersion(version);
  return `/v1/datasets/${name(dataset)}/versions/${number}`;
}

export const api = {
  session: () => send<Schemas["Session"]>("GET", "/v1/session"),
  signIn: (key: string) => answer("POST", "/v1/session", undefined, { key }),
  signOut: () => answer("DELETE", "/v1/session"),
  datasets: () => send<{ items: Dataset[] }>("GET", "/v1/datasets", { limit: 200 }),
  version: (version: string) => send<DatasetVersion>("GET", versionPath(version)),
  dataset: (dataset: string) => send<Dataset>("GET", `/v1/datasets/${name(dataset)}`),
  rows: (version: string, table: string, where: string, sample: number | undefined, limit: number) =>
    send<Schemas["RowsPage"]>("GET", `${versionPath(version)}/rows`, { table, where: where || undefined, sample, limit }),
  query: (version: string, sql: string) => send<Schemas["QueryAnswer"]>("POST", `${versionPath(version)}/query`, undefined, { sql }),
  queryFile: (version: string, sql: string, format: "csv" | "parquet") =>
    fetchFile(`${versionPath(version)}/query`, { format }, { sql, limit: 1_000_000 }),
  tableFile: (version: string, table: string) => `${versionPath(version)}/files/${table}`,
  toParquet: (columns: string[], rows: (string | number | null)[][]) => fetchFile("/v1/tables", {}, { columns, rows }),
  items: (version: string, search: string) =>
    send<Schemas["ItemSummary"][]>("GET", `${versionPath(version)}/items/search`, { search, limit: 20 }),
  item: (version: string, item: string) => send<Schemas["ItemFacts"]>("GET", `${versionPath(version)}/items`, { item, n: 20 }),
  overlap: (version: string, users: string[]) => send<Schemas["OverlapMap"]>("GET", `${versionPath(version)}/overlap`, { user: users }),
  features: (version: string, table: "items" | "users") =>
    send<Schemas["EncodingReport"]>("GET", `${versionPath(version)}/features`, { table }),
  compare: (dataset: string, before: number, after: number) =>
    send<Schemas["Comparison"]>("GET", `/v1/datasets/${name(dataset)}/compare`, { before, after }),
  split: (version: string, file: string) => send<Job>("POST", `${versionPath(version)}/split`, undefined, { file, name: "split.yaml" }),
  splitReport: (job: number) => send<Schemas["DivideReport"]>("GET", `/v1/splits/${job}`),
  users: (version: string, search: string) =>
    send<UserSummary[]>("GET", `${versionPath(version)}/users`, { search, limit: 20 }),
  history: (version: string, user: string) =>
    send<History>("GET", `${versionPath(version)}/history`, { user, limit: 100 }),
  runs: () => send<{ items: RunSummary[] }>("GET", "/v1/contests", { limit: 200 }),
  run: (run: string) => send<Run>("GET", `/v1/contests/${name(run)}`),
  comparison: (run: string, metric: string) => send<Schemas["ContestComparison"]>("GET", `/v1/contests/${name(run)}/comparison`, { metric }),
  runValues: (run: string, part: string) => send<Schemas["ValueReport"]>("GET", `/v1/contests/${name(run)}/values`, { part }),
  segments: (run: string, by: string, metric: string, part: string) => send<Schemas["Segments"]>("GET", `/v1/contests/${name(run)}/segments`, { by, metric, part }),
  tuning: (run: string) => send<Schemas["Tuning"][]>("GET", `/v1/contests/${name(run)}/tuning`),
  curves: (run: string) => send<Schemas["LearningCurve"][]>("GET", `/v1/contests/${name(run)}/curves`),
  choice: (run: string, against: string | undefined) => send<Schemas["Choice"]>("GET", `/v1/contests/${name(run)}/choice`, { against }),
  agreement: (run: string, contender: string, part: string) => send<Schemas["MetricAgreement"]>("GET", `/v1/contests/${name(run)}/agreement`, { contender, part }),
  release: (run: string, contender: string) => send<Job>("POST", `/v1/contests/${name(run)}/release`, undefined, { contender }),
  report: (run: string, form: "html" | "markdown" | "zip") => `/v1/contests/${name(run)}/report?form=${form}`,
  listWork: (data: string) => send<{ items: Schemas["ListWork"][] }>("GET", "/v1/lists", { data, limit: 200 }),
  listScores: (job: number) => send<Schemas["ListScores"]>("GET", `/v1/lists/scores/${job}`),
  listAnalysis: (job: number) => send<Schemas["AnalysisReport"]>("GET", `/v1/lists/analyses/${job}`),
  analyseLists: (model: string, beside: string) => send<Job>("POST", "/v1/lists/analyses", undefined, { model, beside }),
  models: () => send<{ items: ModelSummary[] }>("GET", "/v1/models", { limit: 200 }),
  model: (model: string) => send<ModelCard>("GET", `/v1/models/${name(model)}`),
  modelList: (model: string, user: string, n: number, where: string, known: boolean) =>
    send<Schemas["ModelList"]>("GET", `/v1/models/${name(model)}/users/${name(user)}/recommendations`, { n, where: where || undefined, include_known: known }),
  audience: (model: string, item: string, n: number, where: string, known: boolean) =>
    send<Schemas["Audience"]>("GET", `/v1/models/${name(model)}/items/${name(item)}/audience`, { n, where: where || undefined, include_known: known }),
  similar: (model: string, side: "item" | "user", id: string, n: number) =>
    send<Schemas["Similar"]>("GET", `/v1/models/${name(model)}/${side}s/${name(id)}/similar`, { n }),
  rate: (model: string, pairs: { user: string; item: string }[]) => send<Schemas["Ratings"]>("POST", `/v1/models/${name(model)}/ratings`, undefined, { pairs }),
  averages: (model: string, n: number) => send<Schemas["Average"][]>("GET", `/v1/models/${name(model)}/averages`, { n }),
  explanation: (model: string, user: string, item: string) => send<Schemas["ModelExplanation"]>("GET", `/v1/models/${name(model)}/explanation`, { user, item }),
  factors: (model: string, n: number) => send<Schemas["FactorsReport"]>("GET", `/v1/models/${name(model)}/factors`, { n }),
  shelves: () => send<{ items: ShelfSummary[] }>("GET", "/v1/shelves", { limit: 200 }),
  shelf: (shelf: string) => send<ShelfVersion>("GET", `/v1/shelves/${name(shelf)}`),
  shelfHistory: (shelf: string) => send<Schemas["ShelfHistory"]>("GET", `/v1/shelves/${name(shelf)}/versions`),
  shelfDifference: (shelf: string, before: number, after: number) =>
    send<Schemas["ShelfDifference"]>("GET", `/v1/shelves/${name(shelf)}/difference`, { before, after }),
  rollBack: (shelf: string, to: number) => send<ShelfVersion>("POST", `/v1/shelves/${name(shelf)}/rollback`, undefined, { to }),
  refreshes: (shelf: string) => send<Schemas["Refreshes"]>("GET", `/v1/shelves/${name(shelf)}/refreshes`, { limit: 20 }),
  refreshShelf: (shelf: string) => send<Job>("POST", `/v1/shelves/${name(shelf)}/refresh`, undefined, {}),
  checkShelf: (file: string) => send<Schemas["ShelfCheck"]>("POST", "/v1/shelves/check", undefined, { file, name: "shelf.yaml" }),
  publishShelf: (file: string) => send<ShelfVersion>("POST", "/v1/shelves", undefined, { file, name: "shelf.yaml" }),
  recommend: (shelf: string, body: { user?: string; recent: string[]; values?: Record<string, number>; n: number; where?: string; candidates?: string[] }) =>
    send<Answer>("POST", `/v1/shelves/${name(shelf)}/recommendations`, undefined, { ...body, explain: true }),
  live: (dataset: string) => send<Schemas["LiveState"]>("GET", `/v1/datasets/${name(dataset)}/live`),
  events: (data: string, limit: number) => send<{ items: Schemas["KeptEvent"][] }>("GET", "/v1/events", { data, limit }),
  jobs: () => send<{ items: Job[] }>("GET", "/v1/jobs", { limit: 100 }),
  job: (job: number) => send<JobDetail>("GET", `/v1/jobs/${job}`),
  cancel: (job: number) => send<Job>("POST", `/v1/jobs/${job}/cancel`),
  jobEvents: (job: number) => new EventSource(`/v1/jobs/${job}/events`),
};
