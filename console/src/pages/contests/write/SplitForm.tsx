import { Group, MultiSelect } from "@mantine/core";
import { listAt, problemAt, textAt } from "../../../parts/files/yamlFile";
import { ChoiceField, NumberField, type FormPart } from "../../../parts/files/fileFields";

const RULES: { value: string; label: string; says: string; needsTimes?: boolean }[] = [
  { value: "time", label: "by time", says: "The newest rows are the test, those before them choose: what serving will meet.", needsTimes: true },
  { value: "last", label: "the last rows of each user", says: "Of each user the last rows are held out: what comes next.", needsTimes: true },
  { value: "user_rows", label: "a share of each user's rows", says: "Of each user some rows, drawn by chance; what is newer may have been learned from." },
  { value: "rows", label: "a share of all rows", says: "Rows drawn by chance, whoever's they are." },
  { value: "users", label: "users held out whole", says: "Users whom training never sees: part of their rows is shown, the rest is the test." },
  { value: "items", label: "items held out whole", says: "Items that training never sees: for models that look at columns." },
  { value: "folds", label: "folds", says: "Every row is tested once, in so many turns." },
  { value: "given", label: "as it was imported", says: "The parts of the files that were split beforehand." },
];

const KEPT = [
  { value: "users", label: "users new to training" },
  { value: "items", label: "items new to training" },
];

/** How rows are divided, and what that says. */
export function SplitForm({ hasTimes, hasParts, ...part }: FormPart & { hasTimes: boolean; hasParts: boolean }) {
  const by = textAt(part.file, ["split", "by"]) || "time";
  const rules = RULES.filter((each) => (hasTimes || !each.needsTimes || each.value === by) && (hasParts || each.value !== "given" || by === "given"));
  const kept = listAt(part.file, ["split", "keep"]).map(String);
  const share = by === "last" ? "rows" : "share";
  return (
    <>
      <Group gap="md" align="start">
        <ChoiceField {...part} path={["split", "by"]} label="Divide" options={rules} usual="time" />
        {by === "folds" && <NumberField {...part} whole path={["split", "folds"]} label="Folds" placeholder="5" />}
        {by !== "given" && by !== "folds" && <NumberField {...part} path={["split", "test"]} label={`Test, ${share}`} placeholder={by === "last" ? "1" : "0.1"} />}
        {by !== "given" && <NumberField {...part} path={["split", "validation"]} label={`Validation, ${share}`} placeholder={by === "last" ? "1" : by === "folds" ? "0" : "0.1"} />}
        {by === "time" && <NumberField {...part} path={["split", "gap_days"]} label="Days left out between" placeholder="0" />}
        {by === "users" && <NumberField {...part} path={["split", "show"]} label="Shown of a user held out, share" placeholder="0.5" />}
        {by !== "given" && (
          <MultiSelect
            size="xs" w={230} label="Judge also lists of" placeholder={kept.length > 0 ? "" : "nobody new"} value={kept} error={problemAt(part.problems, ["split", "keep"])}
            data={KEPT.filter((each) => by !== "users" || each.value !== "users")} onChange={(value) => part.change(["split", "keep"], value.length > 0 ? value : undefined)}
          />
        )}
        <NumberField {...part} whole path={["seed"]} label="Seed of every chance" placeholder="1" />
      </Group>
      <p className="quiet">{RULES.find((each) => each.value === by)?.says}</p>
    </>
  );
}
