import { Button, Select } from "@mantine/core";
import { useCallback } from "react";
import { Link, useNavigate } from "react-router";
import { useFamilies } from "../../api/contests";
import { useModel, useModels } from "../../api/models";
import { useShelfDraft } from "../../api/shelves";
import { useDraft } from "../../parts/files/draft";
import { PageTitle } from "../../parts/page";
import { useSearch } from "../../parts/search";
import { Empty, Loaded } from "../../parts/states";
import { ShelfEditor } from "./form/ShelfEditor";

/** A shelf that is not there yet, begun from a model. */
export default function NewShelfPage() {
  const [search, choose] = useSearch();
  const models = useModels();
  const families = useFamilies().data;
  const alike = new Set((families ?? []).filter((each) => !each.personal).map((each) => each.family));
  return (
    <Loaded query={models}>
      {({ items }) => {
        const model = search.get("model") ?? items.find((each) => !alike.has(each.family))?.name ?? items[0]?.name;
        return (
          <>
            <PageTitle title="A shelf">
              {model && <Select aria-label="Model" size="xs" w={260} searchable allowDeselect={false} data={[...new Set([model, ...items.map((each) => each.name)])]} value={model} onChange={(value) => choose("model", value)} />}
            </PageTitle>
            {model ? <FromModel model={model} key={model} /> : (
              <Empty what="A shelf serves a model, and there is none yet. A contest fits several on the same data and says which is best.">
                <Button component={Link} to="/contests/new" size="xs">Write a contest</Button>
              </Empty>
            )}
          </>
        );
      }}
    </Loaded>
  );
}

function FromModel({ model }: { model: string }) {
  const draft = useShelfDraft(model);
  const card = useModel(model);
  return <Loaded query={card}>{({ data }) => <Loaded query={draft}>{({ file }) => <NewShelf model={model} data={data} initial={file} />}</Loaded>}</Loaded>;
}

function NewShelf({ model, data, initial }: { model: string; data: string; initial: string }) {
  const navigate = useNavigate();
  const first = useCallback(() => initial, [initial]);
  const [text, setText, forget] = useDraft(`shelf of ${model}`, first);
  return (
    <ShelfEditor
      title="The file" text={text} setText={(next) => setText(() => next)} basedOn={0} publish="Publish" data={data}
      side={<Button size="compact-xs" variant="subtle" onClick={forget}>Start over</Button>}
      onPublished={(shelf) => {
        forget();
        void navigate(`/shelves/${shelf.shelf}`);
      }}
    />
  );
}
