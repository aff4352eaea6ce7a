import { Group, MultiSelect, NumberInput, Select } from "@mantine/core";
import type { Run } from "../../api/contests";
import { useVersion } from "../../api/datasets";
import type { Analysis } from "../../api/lists";

const KERNELS = ["linear", "rbf", "polynomial", "sigmoid", "cosine"];

interface AnalysisSettingsProps {
  run: Run;
  how: Analysis;
  onChange: (how: Analysis) => void;
}

/** What lists are compared with, and by what. */
export function AnalysisSettings({ run, how, onChange }: AnalysisSettingsProps) {
  const columns = (useVersion(run.data).data?.item_columns ?? []).map((each) => each.name).filter((each) => each !== "id");
  const set = (part: Partial<Analysis>) => onChange({ ...how, ...part });
  return (
    <Group align="end" gap="md" w="100%">
      <NumberInput size="xs" w={150} label="Places of each list" hideControls min={1} max={100} value={how.n} onChange={(n) => n !== "" && set({ n: Number(n) })} />
      <NumberInput size="xs" w={190} label="Places of lists anybody expects" hideControls min={1} max={1000} value={how.expected_n} onChange={(n) => n !== "" && set({ expected_n: Number(n) })} />
      <MultiSelect size="xs" w={300} label="Columns that say what an item is" placeholder={how.content.length ? "" : "all categories"} data={columns} value={how.content} onChange={(content) => set({ content })} />
      <Select size="xs" w={150} label="Kernel of the index" allowDeselect={false} data={KERNELS} value={how.kernel} onChange={(kernel) => kernel && set({ kernel: kernel as Analysis["kernel"] })} />
    </Group>
  );
}
