import "@mantine/spotlight/styles.css";
import { Spotlight, type SpotlightActionGroupData } from "@mantine/spotlight";
import { useDebouncedValue } from "@mantine/hooks";
import { useState, type KeyboardEvent } from "react";
import { useNavigate } from "react-router";
import { useRuns } from "../api/contests";
import { useDatasets, useMatchesOf } from "../api/datasets";
import { useModels } from "../api/models";
import { useShelves } from "../api/shelves";
import { itemPage, userPage } from "../pages/datasets/pages";

const MOST_SHOWN = 12;
const MAX_DATASETS = 3;
const MAX_MATCHES = 4;
/** Fewer letters are in too many ids and names to be of use. */
const MIN_LETTERS = 2;

const TO_DO: [string, string][] = [
  ["Bring data in", "/data/new"],
  ["Write a contest", "/contests/new"],
  ["Train a model", "/models/new"],
  ["Build a shelf", "/shelves/new"],
  ["Make an export", "/exports"],
  ["Make a key", "/keys"],
];

/** Enter takes the first of what is listed also where its names came in after the last letter, and none is selected. */
function takeFirst(event: KeyboardEvent) {
  if (event.key !== "Enter" || document.querySelector("[data-action][data-selected]")) return;
  document.querySelector<HTMLElement>("[data-action]")?.click();
}

/** Everything by its name, at Ctrl K: what can be done, every dataset, contest, model and shelf, and the items and users
 * of the newest versions of data. */
export default function Palette({ pages }: { pages: { path: string; title: string }[] }) {
  const navigate = useNavigate();
  const [query, setQuery] = useState("");
  const [typed] = useDebouncedValue(query.trim(), 200);
  const datasets = useDatasets().data?.items ?? [];
  const newest = datasets.slice(0, MAX_DATASETS).flatMap((each) => each.versions[0]?.name ?? []);
  const found = useMatchesOf(newest, typed.length < MIN_LETTERS ? "" : typed);
  const names = {
    Data: datasets.flatMap((each) => each.versions.map((version) => version.name)),
    Contests: (useRuns().data?.items ?? []).map((each) => each.name),
    Models: (useModels().data?.items ?? []).map((each) => each.name),
    Shelves: (useShelves().data?.items ?? []).map((each) => each.shelf),
  };
  const group = (title: string, entries: [string, string][]): SpotlightActionGroupData => ({
    group: title,
    actions: entries.map(([label, path]) => ({ id: path, label, onClick: () => void navigate(path) })),
  });
  const idGroup = ({ version, side, matches }: (typeof found)[number]): SpotlightActionGroupData => ({
    group: `${side === "item" ? "Items" : "Users"} of ${version}`,
    actions: matches.slice(0, MAX_MATCHES).map(({ id, label }) => {
      const path = (side === "item" ? itemPage : userPage)(version)(id);
      // a column that is not shown may hold what was typed
      return { id: path, label: label ? `${label} (${id})` : id, keywords: query, onClick: () => void navigate(path) };
    }),
  });
  const groups = [
    group("Do", TO_DO),
    group("Pages", pages.map((page) => [page.title, `/${page.path}`])),
    ...Object.entries(names).map(([title, all]) => group(title, all.map((name) => [name, `/${title.toLowerCase()}/${name}`]))),
    ...found.map(idGroup),
  ];
  return (
    <Spotlight
      actions={groups} query={query} onQueryChange={setQuery} shortcut={null} limit={MOST_SHOWN} highlightQuery scrollable maxHeight={420} nothingFound="Nothing is called so."
      transitionProps={{ duration: 0 }} // one that still fades out takes the letters typed for the next with it
      searchProps={{ placeholder: "What to do, or a name", "aria-label": "What to do, or a name", onKeyDown: takeFirst }}
    />
  );
}
