import "@mantine/spotlight/styles.css";
import { Spotlight, type SpotlightActionGroupData } from "@mantine/spotlight";
import { type KeyboardEvent } from "react";
import { useNavigate } from "react-router";
import { useRuns } from "../api/contests";
import { useDatasets } from "../api/datasets";
import { useModels } from "../api/models";
import { useShelves } from "../api/shelves";

const MOST_SHOWN = 12;

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

/** Everything by its name, at Ctrl K: what can be done, and every dataset, contest, model and shelf. */
export default function Palette({ pages }: { pages: { path: string; title: string }[] }) {
  const navigate = useNavigate();
  const names = {
    Data: (useDatasets().data?.items ?? []).flatMap((each) => each.versions.map((version) => version.name)),
    Contests: (useRuns().data?.items ?? []).map((each) => each.name),
    Models: (useModels().data?.items ?? []).map((each) => each.name),
    Shelves: (useShelves().data?.items ?? []).map((each) => each.shelf),
  };
  const group = (title: string, entries: [string, string][]): SpotlightActionGroupData => ({
    group: title,
    actions: entries.map(([label, path]) => ({ id: path, label, onClick: () => void navigate(path) })),
  });
  const groups = [
    group("Do", TO_DO),
    group("Pages", pages.map((page) => [page.title, `/${page.path}`])),
    ...Object.entries(names).map(([title, all]) => group(title, all.map((name) => [name, `/${title.toLowerCase()}/${name}`]))),
  ];
  return (
    <Spotlight
      actions={groups} shortcut={null} limit={MOST_SHOWN} highlightQuery scrollable maxHeight={420} nothingFound="Nothing is called so."
      transitionProps={{ duration: 0 }} // one that still fades out takes the letters typed for the next with it
      searchProps={{ placeholder: "What to do, or a name", "aria-label": "What to do, or a name", onKeyDown: takeFirst }}
    />
  );
}
