import { describe, expect, it } from "vitest";
import { contendersOf, paramChange } from "../../pages/contests/write/contenders";
import { readValue, shown, valueAt, withValue, yamlFile } from "./yamlFile";

const TEXT = `# a contest
contest: one  # its name
prepare: {kinds: {view: 1}, min_user: 5}
contenders:
  - popular  # the baseline
  - als: {rank: 32}
`;

describe("a file and its form", () => {
  it("changes one value and keeps comments and order", () => {
    expect(withValue(TEXT, ["contest"], "two")).toBe(TEXT.replace("contest: one  #", "contest: two #").replace("popular  #", "popular #"));
    expect(withValue(TEXT, ["prepare", "min_user"], 2)).toContain("prepare: {kinds: {view: 1}, min_user: 2}");
  });
  it("takes away what is left empty", () => {
    const text = "contest: one\nrefresh:\n  every: 0 3 * * *\n";
    expect(withValue(text, ["refresh", "every"], undefined)).toBe("contest: one\n");
    expect(withValue("contest: one\n", ["refresh", "every"], "0 3 * * *")).toBe(text);
  });
  it("leaves a text that is no YAML as it is", () => {
    expect(withValue("a: [", ["a"], 1)).toBe("a: [");
    expect(yamlFile("a: [").tree).toEqual({});
    expect(yamlFile("- a list").tree).toEqual({});
  });
  it("reads contenders in every form, and changes a parameter of each", () => {
    const [popular, als] = contendersOf(yamlFile(TEXT));
    expect([popular?.label, popular?.plain, als?.family, als?.params]).toEqual(["popular", true, "als", { rank: 32 }]);
    if (!popular || !als) throw new Error("two are there");
    const change = (which: typeof als, name: string, value: unknown) => {
      const next = paramChange(which, name, value);
      return valueAt(yamlFile(withValue(TEXT, next.path, next.value)), ["contenders"]);
    };
    expect(change(popular, "measure", "rows")).toEqual([{ popular: { measure: "rows" } }, { als: { rank: 32 } }]);
    expect(change(als, "rank", readValue("{choose: [8, 16]}"))).toEqual(["popular", { als: { rank: { choose: [8, 16] } } }]);
    expect(change(als, "rank", undefined)).toEqual(["popular", { als: {} }]);
  });
  it("shows a parameter on one line", () => {
    expect([shown(32), shown({ choose: [8, 16] }), shown(undefined), shown("log")]).toEqual(["32", "{choose: [8, 16]}", "", "log"]);
  });
});
