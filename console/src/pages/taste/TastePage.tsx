import { Button } from "@mantine/core";
import { Link, useParams } from "react-router";
import { useShelves } from "../../api/shelves";
import { useTasted } from "../../api/taste";
import { PageTitle } from "../../parts/page";
import { Picker } from "../../parts/Picker";
import { Loaded, Empty } from "../../parts/states";
import { TasteView } from "./TasteView";

/** A shelf as it is served, with the card of the model that scores. */
function TasteOf({ name }: { name: string }) {
  const tasted = useTasted(name);
  return <Loaded query={tasted}>{({ shelf, card }) => <TasteView shelf={shelf} card={card} key={shelf.name} />}</Loaded>;
}

/** Pick what you like, as someone no model ever saw, and watch the list change. */
export default function TastePage() {
  const { shelf } = useParams();
  const shelves = useShelves();
  return (
    <Loaded query={shelves}>
      {({ items }) => {
        const chosen = items.find((each) => each.shelf === shelf) ?? items[0];
        if (!chosen) {
          return (
            <>
              <PageTitle title="Taste" />
              <Empty what="There is no shelf whose list could change.">
                <Button component={Link} to="/shelves/new" size="xs">Build a shelf</Button>
              </Empty>
            </>
          );
        }
        return (
          <>
            <PageTitle title={`Taste: ${chosen.shelf}`}>
              <Picker label="Shelf" path="/taste" options={items.map((each) => each.shelf)} chosen={chosen.shelf} />
            </PageTitle>
            <p className="quiet">
              Someone new picks items and says how much they liked them. No event is kept: the list is made for these picks
              alone, folded in with what the model learned.
            </p>
            <TasteOf name={chosen.shelf} />
          </>
        );
      }}
    </Loaded>
  );
}
