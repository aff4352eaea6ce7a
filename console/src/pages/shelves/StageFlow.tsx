import type { Answer } from "../../api/shelves";
import { count } from "../../parts/format";

/** What each stage counts. */
const COUNTS: Record<string, string> = {
  history: "in the history",
  candidates: "may be listed",
  sources: "from the sources",
  ranking: "put in order",
  slots: "placed by hand",
  columns: "with columns",
  reasons: "with a reason",
};

/** How a list came about: what each stage left, and the time it took, as a share of all. */
export function StageFlow({ answer }: { answer: Answer }) {
  const stages = answer.stages ?? [];
  const all = stages.reduce((sum, stage) => sum + stage.milliseconds, 0);
  return (
    <ol className="stage-flow" aria-label="Stages of the list">
      {stages.map((stage) => (
        <li key={stage.stage}>
          <span className="stage-name">{COUNTS[stage.stage] ?? stage.stage}</span>
          <span className="stage-count">{count(stage.items)}</span>
          <span className="quiet">{stage.milliseconds.toFixed(stage.milliseconds < 10 ? 2 : 0)} ms</span>
          <span className="stage-time" style={{ width: `${all ? (stage.milliseconds / all) * 100 : 0}%` }} />
        </li>
      ))}
    </ol>
  );
}
