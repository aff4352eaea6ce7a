import { Button } from "@mantine/core";
import { Link, useParams } from "react-router";
import { useShelf, useShelves } from "../../api/shelves";
import { moment } from "../../parts/format";
import { PageTitle } from "../../parts/page";
import { Picker } from "../../parts/Picker";
import { Loaded, Empty } from "../../parts/states";
import { Evaluate } from "./Evaluate";
import { FileEditor } from "./form/FileEditor";
import { RefreshLog } from "./RefreshLog";
import { TryIt } from "./TryIt";
import { Versions } from "./Versions";

/** What is served, and a place to try it. */
export default function ShelvesPage() {
  const { shelf } = useParams();
  const shelves = useShelves();
  return (
    <Loaded query={shelves}>
      {({ items }) => {
        const chosen = shelf ?? items[0]?.shelf;
        if (!chosen) {
          return (
            <>
              <PageTitle title="Shelves" />
              <Empty what="Nothing is served yet. A shelf serves a model: what it lists, to whom, in which order.">
                <Button component={Link} to="/shelves/new" size="xs">Build a shelf</Button>
              </Empty>
            </>
          );
        }
        return (
          <>
            <PageTitle title={chosen}>
              <Button component={Link} to="/shelves/new" size="xs" variant="default">Build a shelf</Button>
              <Picker label="Shelf" path="/shelves" options={items.map((each) => each.shelf)} chosen={chosen} />
            </PageTitle>
            <ShelfView name={chosen} key={chosen} />
          </>
        );
      }}
    </Loaded>
  );
}

function ShelfView({ name }: { name: string }) {
  const shelf = useShelf(name);
  return (
    <Loaded query={shelf}>
      {(served) => (
        <>
          <p className="quiet">
            Serving version {served.number}, published {moment(served.published_at)}, on {served.data}
            {served.spec.title && <>: “{served.spec.title}”</>}.
          </p>
          {(served.training_only ?? []).length > 0 && (
            <p className="warn">
              Fitted on the training part only, without the newest rows: {served.training_only?.join(", ")}. Release the contest's winner to fit it on
              all rows, then publish with <em>Update models</em>.
            </p>
          )}
          <TryIt shelf={served} />
          <FileEditor shelf={served} key={served.shelf} />
          <Versions shelf={served.shelf} />
          <Evaluate shelf={served} />
          <RefreshLog shelf={served.shelf} />
        </>
      )}
    </Loaded>
  );
}
