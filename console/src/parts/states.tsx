import { Alert, Code, Group, Skeleton, Stack } from "@mantine/core";
import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { ApiError } from "../api/http";

/** Something is on its way. */
export function Loading({ lines = 6 }: { lines?: number }) {
  return (
    <Stack gap="sm" mt="md" role="status" aria-label="Loading">
      {Array.from({ length: lines }, (_, line) => (
        <Skeleton key={line} height={18} width={`${92 - line * 7}%`} />
      ))}
    </Stack>
  );
}

/** Something could not be had, in the service's own words. */
export function Failed({ error, title = "This could not be loaded" }: { error: Error; title?: string }) {
  const isNotFound = error instanceof ApiError && error.status === 404;
  return (
    <Alert color="ochre" variant="outline" mt="md" title={isNotFound ? "Not found" : title} role="alert">
      {error.message}
    </Alert>
  );
}

/** There is nothing yet: what would be here, and what fills it, a button or a command. */
export function Empty({ what, command, children }: { what: string; command?: string; children?: ReactNode }) {
  return (
    <div className="empty">
      <p style={{ margin: 0 }}>{what}</p>
      {children && <Group gap="sm" mt="sm">{children}</Group>}
      {command && <Code block mt="xs">{command}</Code>}
    </div>
  );
}

/** One of the three states of a query, or its data. What was loaded stays, and what is typed into it, while only no answer
 * comes to a later look; a refusal takes its place. */
export function Loaded<T>({ query, children }: { query: UseQueryResult<T>; children: (data: T) => ReactNode }) {
  if (query.isPending) return <Loading />;
  if (query.data === undefined || refused(query.error)) return query.error && <Failed error={query.error} />;
  return (
    <>
      {query.isError && <Failed error={query.error} title="This could not be brought up to date" />}
      {children(query.data)}
    </>
  );
}

const refused = (error: Error | null) => error instanceof ApiError && error.status >= 400 && error.status < 500;
