import { useRunShelves, type Run } from "../../api/contests";
import { Section } from "../../parts/page";
import { EvaluatedShelf } from "../shelves/EvaluationView";

/** The shelves that a contest names, each stage by stage, beside its contenders. */
export function ShelvesOfRun({ run }: { run: Run }) {
  const query = useRunShelves(run);
  return (query.data ?? []).map((each) => (
    <Section key={each.label} title={each.label.replace(/^s/, "S")}>
      <EvaluatedShelf evaluation={each} />
    </Section>
  ));
}
