import { MultiSelect } from "@mantine/core";
import { useShelves } from "../../../api/shelves";
import type { FormPart } from "../../../parts/files/fileFields";
import { listAt, problemAt } from "../../../parts/files/yamlFile";
import { Section } from "../../../parts/page";

/** Published shelves of the same data, which are judged on the same test part. A shelf written out in the file stays. */
export function ShelvesForm({ file, problems, change, data }: FormPart & { data: string }) {
  const shelves = useShelves().data?.items ?? [];
  const names = shelves.filter((each) => each.data.split("@")[0] === data.split("@")[0]).map((each) => each.shelf);
  const written = listAt(file, ["shelves"]);
  const chosen = written.filter((each) => typeof each === "string");
  const others = written.filter((each) => typeof each !== "string");
  if (names.length === 0 && written.length === 0) return null;
  return (
    <Section title="Shelves beside them">
      <MultiSelect
        size="xs" w={420} label="Judged on the same test part, stage by stage" searchable clearable data={[...new Set([...names, ...chosen])]} value={chosen} error={problemAt(problems, ["shelves"])}
        onChange={(value) => change(["shelves"], value.length + others.length > 0 ? [...value, ...others] : undefined)}
      />
      {others.length > 0 && <p className="quiet">{others.length === 1 ? "One more is" : `${others.length} more are`} written out in the file.</p>}
    </Section>
  );
}
