import { type Schemas } from "../../api/http";
import { useShelfEvaluation } from "../../api/shelves";
import { FigureTable } from "../../parts/FigureTable";
import { count } from "../../parts/format";
import { Loaded } from "../../parts/states";
import { Sentences } from "../contests/Sentences";
import { EvaluatedLists, WithInterval } from "./EvaluatedLists";

type Evaluation = Schemas["ShelfEvaluation"];

/** One evaluation of a shelf: its candidates, their order, the lists and what each part adds, beside the contenders. */
export function EvaluationView({ job }: { job: number }) {
  const query = useShelfEvaluation(job);
  return <Loaded query={query}>{(evaluation) => <EvaluatedShelf evaluation={evaluation} />}</Loaded>;
}

/** The same of an evaluation that is there. */
export function EvaluatedShelf({ evaluation }: { evaluation: Evaluation }) {
  const { label, beside, users, users_of_part: all, for_everyone: everyone } = evaluation;
  return (
    <>
      <p className="quiet">
        {label} on the test part of {evaluation.data}, beside {beside}: {count(users)}{users < all && ` of ${count(all)}`} users, {count(everyone)} of whom get a list of the fallback.
      </p>
      {evaluation.candidates && <Candidates candidates={evaluation.candidates} metric={evaluation.decide_by} />}
      <EvaluatedLists evaluation={evaluation} />
      {(evaluation.notes ?? []).map((note) => <p className="warn" key={note}>{note}</p>)}
      {evaluation.comparison && <Sentences lines={evaluation.comparison.summary} />}
      <p className="quiet">
        Fitted: {evaluation.models.map((each) => `${each.model} in ${each.seconds.toFixed(1)} s, ${count(Math.round(each.memory_mb))} MB${each.by_the_run ? ", by the run" : ""}`).join("; ")}.
        Milliseconds of a list (medians): {evaluation.stages.map((each) => `${each.stage} ${each.milliseconds.toFixed(2)}`).join(", ")}.
      </p>
    </>
  );
}

function Candidates({ candidates, metric }: { candidates: Schemas["CandidatesReport"]; metric: string }) {
  const scored = candidates.scored.find((each) => each.metric === metric);
  const brought = candidates.brought.find((each) => each.metric === metric);
  return (
    <>
      <FigureTable
        label="Recall of the candidates"
        rows={candidates.sources}
        rowKey={(row) => row.name}
        columns={[
          { title: "candidates from", value: (row) => row.name },
          { title: "of a user", number: true, value: (row) => row.taken, show: (row) => count(Math.round(row.taken)) },
          { title: "share of the relevant items", number: true, value: (row) => row.recall.mean, show: (row) => <WithInterval of={row.recall} /> },
        ]}
      />
      {scored && brought && (
        <p>
          Given the candidates ({count(candidates.users)} users have a relevant one among them), {metric}: scored <WithInterval of={scored} />, as the sources bring them <WithInterval of={brought} />.
        </p>
      )}
    </>
  );
}
