import { Select } from "@mantine/core";
import type { DatasetVersion } from "../../../api/datasets";
import { useFamilies } from "../../../api/contests";
import { useModels, useSimilar } from "../../../api/models";
import { Section } from "../../../parts/page";
import { useSearch } from "../../../parts/search";
import { Loaded } from "../../../parts/states";
import { userPage } from "../pages";
import { Places } from "../../models/ask/Places";

interface Props {
  version: DatasetVersion;
  user: string;
}

/** Users who are like one, as a model of the dataset sees them. */
export function AlikeUsers({ version, user }: Props) {
  const [search, choose] = useSearch();
  const models = useModels();
  const families = useFamilies();
  const personal = new Set((families.data ?? []).filter((each) => each.personal).map((each) => each.family));
  const names = (models.data?.items ?? []).filter((each) => each.data.split("@")[0] === version.dataset && personal.has(each.family)).map((each) => each.name);
  const model = names.find((each) => each === search.get("model")) ?? names.find((each) => each.includes(".als@")) ?? names[0] ?? "";
  const similar = useSimilar(model, "user", model === "" ? "" : user, "");
  if (names.length === 0) return null;
  return (
    <Section
      title="Users like them"
      side={<Select aria-label="Model that says who is alike" size="xs" w={260} searchable allowDeselect={false} data={names} value={model} onChange={(value) => value && choose("model", value)} />}
    >
      <Loaded query={similar}>
        {(lists) => (
          <>
            <Places label="Users most alike" what="user" score="likeness" rows={lists.list.map((each) => ({ ...each, score: each.likeness, columns: each.columns ?? {} }))} pageOf={userPage(version.name)} />
            <p className="quiet">Likeness: {lists.by}.</p>
          </>
        )}
      </Loaded>
    </Section>
  );
}
