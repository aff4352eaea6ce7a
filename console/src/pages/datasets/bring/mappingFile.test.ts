import { describe, expect, it } from "vitest";
import { emptyDraft, importRequest, type ImportDraft } from "./importDraft";
import { mappingText, withMapping } from "./mappingFile";

const sent = (file: string) => ({ upload: `u-${file}`, file });
const draft = (more: Partial<ImportDraft>): ImportDraft => ({ ...emptyDraft(), name: "seeds", sources: { interactions: sent("rows.csv") }, roles: { user: "who", item: "what" }, ...more });
const text = (of: ImportDraft) => mappingText(importRequest(of, {}, {}, {}) as Parameters<typeof mappingText>[0]);

describe("the mapping file of an import", () => {
  it("says what the form says, and nothing that goes without saying", () => {
    expect(text(draft({}))).toBe("interactions:\n  file: rows.csv\nroles:\n  user: who\n  item: what\n");
    const more = draft({ scale: [1, 5], outside: "drop", strictness: "lenient", context: ["device"] });
    expect(text(more)).toContain("scale:\n  - 1\n  - 5\noutside: drop\nstrictness: lenient\n");
  });

  it("goes back into the form, with what was sent of its files", () => {
    const whole = draft({
      divided: true, tables: { families: sent("families.csv") }, onto: 2,
      sources: { interactions: { ...sent("a.csv"), separator: ";" }, test: sent("b.csv"), items: { ...sent("items.csv"), id: "code" } },
    });
    const again = withMapping(whole, text(whole));
    expect(text(again)).toBe(text(whole));
    expect(again.sources.interactions?.upload).toBe("u-a.csv");
    expect(again.divided).toBe(true);
  });

  it("is refused with what is wrong", () => {
    expect(() => withMapping(draft({}), "interactions: {file: other.csv}\nroles: {user: a, item: b}")).toThrow('the file "other.csv" was not dropped or chosen here');
    expect(() => withMapping(draft({}), "just words")).toThrow("the file must hold fields");
    expect(() => withMapping(draft({}), "interactions: [1")).toThrow();
  });
});
