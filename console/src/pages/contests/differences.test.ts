import { describe, expect, it } from "vitest";
import { differences, ofGround } from "./differences";

type Spec = Parameters<typeof differences>[0];

const spec = (more: object) =>
  ({ contest: "look", data: "seeds@1", split: { by: "time", test: 0.1 }, contenders: [{ label: "als", family: "als", params: { rank: 8 } }], ...more }) as unknown as Spec;

describe("differences of two runs", () => {
  it("are told by the path of each setting, contenders by their names", () => {
    const other = spec({
      contest: "another",
      contenders: [{ label: "popular", family: "popular", params: {} }, { label: "als", family: "als", params: { rank: 16 } }],
    });
    expect(differences(spec({}), other)).toEqual([
      { path: "contenders.als.params.rank", one: "8", other: "16" },
      { path: "contenders.popular", one: "not set", other: "popular" },
    ]);
  });

  it("keep figures from being compared where they are of other users or items", () => {
    expect(ofGround(differences(spec({}), spec({ contenders: [], rank: { at: [5, 10] } })))).toEqual([]);
    expect(ofGround(differences(spec({}), spec({ split: { by: "time", test: 0.2 } })))).toEqual([{ path: "split.test", one: "0.1", other: "0.2" }]);
    expect(ofGround(differences(spec({}), spec({ data: "seeds@2" })))).toHaveLength(1);
  });
});
