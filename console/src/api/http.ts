import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];

/** An answer other than success, with the problem document's own words. */
export class ApiError extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly errors: Schemas["FieldProblem"][] = [],
  ) {
    super(message);
  }
}

/** Whether an error says that the service did not answer, or cannot for the moment. */
export function isAway(error: Error | null): boolean {
  return error instanceof ApiError && (error.status === 0 || error.status === 502 || error.status === 503);
}

/** Calls of the API, their parameters and answers typed by its own description. */
export const http = createClient<paths>({ baseUrl: window.location.origin });

/** A problem document as an error. */
export function refusal(problem: unknown, status: number, otherwise: string): ApiError {
  const { detail, errors } = (problem ?? {}) as { detail?: unknown; errors?: Schemas["FieldProblem"][] };
  return new ApiError(typeof detail === "string" ? detail : otherwise, status, errors ?? []);
}

interface Outcome<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** What a call answers. Throws an ApiError for any answer other than success, and where there is none. */
export async function answer<T>(call: Promise<Outcome<T>>): Promise<T> {
  const { data, error, response } = await call.catch(() => {
    throw new ApiError("The service does not answer.", 0);
  });
  if (!response.ok) {
    throw refusal(error, response.status, response.statusText);
  }
  return data as T;
}

/** A dataset and the number of its version, from `seeds@3`, as the path of a call has them. */
export function versionPath(version: string): { name: string; number: number } {
  const [name = "", number = "1"] = version.split("@");
  return { name, number: Number(number) };
}
