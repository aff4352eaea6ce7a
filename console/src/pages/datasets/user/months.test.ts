import { expect, test } from "vitest";
import { monthsByKind } from "./months";

test("months without a row stand between those with rows, and the most frequent kind comes first", () => {
  const rows = [
    { time: "2026-02-03T09:00:00Z", kind: "view" },
    { time: "2025-11-30T23:59:59Z", kind: "request" },
    { time: "2026-02-01T00:00:00Z", kind: "view" },
    { time: null, kind: "view" },
  ];
  expect(monthsByKind(rows)).toEqual({
    months: [
      { month: "2025-11", counts: { request: 1 } },
      { month: "2025-12", counts: {} },
      { month: "2026-01", counts: {} },
      { month: "2026-02", counts: { view: 2 } },
    ],
    kinds: ["view", "request"],
  });
});

test("rows without a kind are counted as rows, and no row gives no month", () => {
  expect(monthsByKind([{ time: "2026-02-03T09:00:00Z" }])).toEqual({ months: [{ month: "2026-02", counts: { rows: 1 } }], kinds: ["rows"] });
  expect(monthsByKind([])).toEqual({ months: [], kinds: [] });
});
