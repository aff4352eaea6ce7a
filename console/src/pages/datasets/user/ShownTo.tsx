import { Anchor, Select } from "@mantine/core";
import { Link } from "react-router";
import type { DatasetVersion } from "../../../api/datasets";
import { useList, useShelves } from "../../../api/shelves";
import { Section } from "../../../parts/page";
import { useSearch } from "../../../parts/search";
import { Empty, Loaded } from "../../../parts/states";
import { AnswerTable } from "../../shelves/AnswerTable";

const LISTED = 10;

/** What the shelves of a dataset show one user, one shelf at a time. The lists are not recorded as served. */
export function ShownTo({ version, user }: { version: DatasetVersion; user: string }) {
  const [search, choose] = useSearch();
  const shelves = useShelves();
  const names = (shelves.data?.items ?? []).filter((each) => each.data.split("@")[0] === version.dataset).map((each) => each.shelf);
  const shelf = names.find((each) => each === search.get("shelf")) ?? names[0] ?? "";
  const list = useList(["shown to", shelf], shelf, { user, recent: [], n: LISTED }, shelf !== "");
  return (
    <Section
      title="What a shelf shows them"
      side={names.length > 0 && <Select aria-label="Shelf" size="xs" w={200} allowDeselect={false} data={names} value={shelf} onChange={(value) => value && choose("shelf", value)} />}
    >
      {shelves.data && names.length === 0 && <Empty what={`No shelf serves ${version.dataset} yet.`} />}
      {shelf !== "" && (
        <Loaded query={list}>
          {(answer) => (
            <>
              <AnswerTable answer={answer} label={`List of ${shelf}`} />
              <Anchor component={Link} size="sm" to={`/shelves/${shelf}?user=${encodeURIComponent(user)}`}>Try it with other settings</Anchor>
            </>
          )}
        </Loaded>
      )}
    </Section>
  );
}
