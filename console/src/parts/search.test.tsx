import { act } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { describe, expect, it } from "vitest";
import { useSearch } from "./search";

Object.assign(globalThis, { IS_REACT_ACT_ENVIRONMENT: true });

type Choose = ReturnType<typeof useSearch>[1];

function Part({ give }: { give: (choose: Choose) => void }) {
  const [search, choose] = useSearch();
  give(choose);
  return <span>{search.toString()}</span>;
}

describe("useSearch", () => {
  it("keeps what another part chose before this one was drawn again", () => {
    window.history.replaceState(null, "", "/contests/spring?metric=ndcg");
    const chooses: Choose[] = [];
    const place = document.createElement("div");
    const root = createRoot(place);
    act(() => root.render(<BrowserRouter>{[0, 1].map((part) => <Part key={part} give={(choose) => { chooses[part] = choose; }} />)}</BrowserRouter>));
    act(() => {
      chooses[0]?.("lists", "12");
      chooses[1]?.("cut", "popularity");
      chooses[1]?.("metric", null);
    });
    expect(window.location.search).toBe("?lists=12&cut=popularity");
    expect([...place.querySelectorAll("span")].map((each) => each.textContent)).toEqual(Array(2).fill("lists=12&cut=popularity"));
    act(() => root.unmount());
  });
});
