import { describe, expect, it } from "vitest";
import { cellOf, typedOf } from "./cell";

const column = (type: string, separator?: string) => ({ name: "it", type, missing: 0, separator });

describe("a cell", () => {
  it("is read as its column holds it", () => {
    expect(cellOf(" 12.5 ", column("number"))).toBe(12.5);
    expect(cellOf("false", column("flag"))).toBe(false);
    expect(cellOf("early| bitter|", column("categories", "|"))).toEqual(["early", "bitter"]);
    expect(cellOf("007", column("category"))).toBe("007");
    expect(cellOf("  ", column("number"))).toBeNull();
  });

  it("that does not fit is refused in words", () => {
    expect(() => cellOf("many", column("number"))).toThrow("it holds numbers.");
    expect(() => cellOf("no", column("flag"))).toThrow("it holds true or false.");
  });

  it("is written as it would be typed", () => {
    expect([typedOf(["early", "bitter"], column("categories", "|")), typedOf(null, column("number")), typedOf(0, column("number"))]).toEqual(["early|bitter", "", "0"]);
  });
});
