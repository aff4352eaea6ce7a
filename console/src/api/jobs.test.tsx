import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { renderHook } from "@testing-library/react";
import type { ReactNode } from "react";
import { expect, test, vi } from "vitest";
import { useUpdateAtEnd } from "./jobs";

function watched(states: (string | undefined)[]): number {
  const queries = new QueryClient();
  const invalidate = vi.spyOn(queries, "invalidateQueries");
  const wrapper = ({ children }: { children: ReactNode }) => <QueryClientProvider client={queries}>{children}</QueryClientProvider>;
  const workOf = (state: string | undefined) => (state === undefined ? undefined : { state });
  const hook = renderHook(({ state }) => useUpdateAtEnd(workOf(state)), { wrapper, initialProps: { state: states[0] } });
  for (const state of states.slice(1)) hook.rerender({ state });
  return invalidate.mock.calls.length;
}

test("everything is brought up to date once, when watched work ends", () => {
  expect(watched([undefined, "queued", "running", "running", "done", "done"])).toBe(1);
  expect(watched(["running", "failed"])).toBe(1);
  expect(watched(["running", undefined, "done"])).toBe(1);
});

test("work that had ended before it was looked at updates nothing", () => {
  expect(watched([undefined, "done", "done"])).toBe(0);
  expect(watched(["cancelled"])).toBe(0);
});
