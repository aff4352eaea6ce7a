import { useState } from "react";
import type { ShelfVersion } from "../../../api/shelves";
import { ShelfEditor } from "./ShelfEditor";

/** The shelf as it can be changed, and published as the next version. */
export function FileEditor({ shelf }: { shelf: ShelfVersion }) {
  const [text, setText] = useState(shelf.file);
  const pinned = [...shelf.spec.candidates, ...shelf.spec.fallback].flatMap((source) => source.model ?? []);
  return (
    <ShelfEditor title={`File of ${shelf.name}`} text={text} setText={setText} served={shelf.file} publish="Publish as the next version" data={shelf.data} onPublished={() => undefined}>
      <p className="quiet" style={{ margin: 0 }}>Models named without a number were pinned when it was published: {pinned.join(", ")}.</p>
    </ShelfEditor>
  );
}
