import { Group } from "@mantine/core";
import { ChoiceField, NumberField, type FormPart } from "../../../parts/files/fileFields";

export const SEARCHES = [
  { value: "bayesian", label: "learn from earlier attempts" },
  { value: "random", label: "at random" },
  { value: "quasi_random", label: "spread evenly" },
  { value: "grid", label: "every combination" },
];

/** How parameters with ranges are searched, and which curves are drawn. */
export function TuneForm(part: FormPart) {
  return (
    <Group gap="md" align="start">
      <ChoiceField {...part} path={["tune", "search"]} label="Parameters with ranges are searched" options={SEARCHES} usual="bayesian" />
      <NumberField {...part} whole path={["tune", "attempts"]} label="Attempts of each contender, at most" placeholder="20" />
      <NumberField {...part} path={["tune", "minutes"]} label="Minutes of each contender, at most" placeholder="no limit" />
      <NumberField {...part} whole path={["curves", "every"]} label="A curve point every so many iterations" placeholder="no curves" />
    </Group>
  );
}
