import { describe, expect, it } from "vitest";
import { versionPath } from "../api/http";
import { isOpen } from "../api/jobs";
import { followed, replaced, took } from "../pages/jobs/live";
import { byPeriod } from "../pages/datasets/series";
import { decadePercent, decades, logTicks, rangeStart, roundAxis, roundTicks } from "./charts/axes";
import { standalone, toCsv } from "./download";
import { count, duration, percent } from "./format";
import { shapesOf } from "./charts/shapes";

const job = (id: number, state: string) =>
  ({ id, state, started_at: "2026-03-01T09:00:00Z", finished_at: "2026-03-01T09:00:42Z" }) as Parameters<typeof took>[0];

describe("round ticks", () => {
  it("stand at round numbers within what is drawn", () => {
    expect(roundTicks([8, 61])).toEqual([20, 40, 60]);
    expect(roundTicks([0, 1])).toEqual([0, 0.2, 0.4, 0.6, 0.8, 1]);
    expect(roundTicks([3, 3])).toEqual([3]);
    expect(["3-4", "1000-1999", "2000+", "2024-03", "7"].map(rangeStart)).toEqual(["3", "1000", "2000+", "2024-03", "7"]);
  });

  it("end an axis beyond what is drawn, all with the same places", () => {
    const axis = (drawn: (number | null)[]) => {
      const { ticks, domain, tickFormatter } = roundAxis(drawn);
      return { domain, ticks: (ticks ?? []).map((each) => tickFormatter?.(each)) };
    };
    expect(axis([0.6, 0.2, null, 26.4])).toEqual({ domain: [0, 30], ticks: ["0", "10", "20", "30"] });
    expect(axis([0.9871, 0.4612])).toEqual({ domain: [0.4, 1], ticks: ["0.4", "0.6", "0.8", "1.0"] });
    expect(axis([0.0312, 0.0335, NaN])).toEqual({ domain: [0.031, 0.0335], ticks: ["0.0310", "0.0315", "0.0320", "0.0325", "0.0330", "0.0335"] });
    expect(axis([-5, 12_400])).toEqual({ domain: [-5000, 15_000], ticks: ["-5,000", "0", "5,000", "10,000", "15,000"] });
    expect(axis([3])).toEqual({ domain: [3, 4], ticks: ["3", "4"] });
    expect(roundAxis([null])).toEqual({});
  });

  it("are spread over a scale of powers of ten", () => {
    expect(logTicks([0.003081, 0.2254])).toEqual([0.005, 0.01, 0.02, 0.05, 0.1, 0.2]);
    expect(logTicks([1.2, 1800])).toEqual([10, 100, 1000]);
    expect(logTicks([3, 4])).toEqual([3, 3.2, 3.4, 3.6, 3.8, 4]);
  });

  it("are powers of ten where chances are drawn", () => {
    expect(decades([0.004, 0, 0.31])).toEqual([0.001, 0.01, 0.1, 1]);
    expect([0.001, 0.01, 0.1, 1].map(decadePercent)).toEqual(["0.1 %", "1 %", "10 %", "100 %"]);
  });
});

describe("format", () => {
  it("writes numbers as people read them", () => {
    expect(count(90000)).toBe("90,000");
    expect([percent(0.56), percent(0.0669), percent(0.00012)]).toEqual(["56 %", "6.7 %", "0.012 %"]);
    expect([percent(1), percent(0.99731), percent(0.99997)]).toEqual(["100 %", "99.7 %", "over 99.9 %"]);
    expect([duration(0.44), duration(42), duration(75), duration(3720)]).toEqual(["0.4 s", "42 s", "1 min 15 s", "1 h 2 min"]);
  });
});

describe("toCsv", () => {
  it("keeps a spreadsheet from running a cell", () => {
    expect(toCsv(["=a"], [["=1+1"], ["+x"], ["-5"], ["@b"], ["-x"], [-3]])).toBe("'=a\n'=1+1\n'+x\n-5\n'@b\n'-x\n-3\n");
  });

  it("quotes what needs quotes and leaves gaps empty", () => {
    expect(toCsv(["a", 'b"c'], [["x,y", null], ["two\nlines", 0]])).toBe('a,"b""c"\n"x,y",\n"two\nlines",0\n');
  });
});

describe("standalone", () => {
  it("keeps an SVG's shapes and names its namespace", () => {
    document.body.innerHTML = '<svg><path d="M0 0" style="fill: rgb(1, 2, 3)"/></svg>';
    const svg = document.querySelector("svg") as SVGSVGElement;
    expect(standalone(svg)).toContain("fill: rgb(1, 2, 3)");
    expect(standalone(svg)).toContain('xmlns="http://www.w3.org/2000/svg"');
  });
});

describe("shapesOf", () => {
  it("keeps a contender's colour and mark whatever the leaderboard's order, and sets popularity apart", () => {
    const contenders = ["popular", "a", "b"].map((label) => ({ label, family: label === "popular" ? "popular" : "als" }));
    const shapes = shapesOf(contenders);
    expect(shapes.get("a")?.color).not.toBe(shapes.get("b")?.color);
    expect(shapes.get("a")?.mark).not.toBe(shapes.get("b")?.mark);
    expect(shapes.get("popular")?.dash).toBe("3 3");
    expect(shapesOf([...contenders, { label: "c", family: "als" }]).get("b")).toEqual(shapes.get("b"));
  });
});

describe("jobs", () => {
  it("follows few jobs at a time, those that run first", () => {
    const jobs = [job(9, "queued"), job(8, "queued"), job(7, "running"), job(6, "queued"), job(5, "running"), job(4, "done")];
    expect(followed(jobs).map((each) => each.id)).toEqual([7, 5, 6]);
  });

  it("tells open from ended, and what they took", () => {
    expect(["queued", "running", "done", "failed", "cancelled"].map((state) => isOpen(job(1, state)))).toEqual([true, true, false, false, false]);
    expect(took(job(1, "done"))).toBe(42);
    expect(took({ ...job(1, "queued"), finished_at: null })).toBeNull();
  });
  it("replaces the one that changed", () => {
    expect(replaced([job(2, "running"), job(1, "done")], job(2, "done")).map((each) => each.state)).toEqual(["done", "done"]);
  });
});

describe("byPeriod", () => {
  it("gives every period every kind, zero where there were none", () => {
    const profile = {
      kinds: [{ kind: "view", rows: 3 }, { kind: null, rows: 1 }],
      over_time: { period: "1w", points: [{ at: "2026-03-02", kind: "view", rows: 3 }, { at: "2026-03-09", kind: null, rows: 1 }] },
    } as unknown as Parameters<typeof byPeriod>[0];
    expect(byPeriod(profile).rows).toEqual([
      { at: "2026-03-02", view: 3, "(none)": 0 },
      { at: "2026-03-09", view: 0, "(none)": 1 },
    ]);
  });
});

describe("versionPath", () => {
  it("splits a version's name", () => {
    expect(versionPath("seeds@12")).toEqual({ name: "seeds", number: 12 });
  });
});
