import { useRounds, type JobDetail } from "../../api/jobs";
import type { Schemas } from "../../api/http";
import { Section } from "../../parts/page";
import { RoundCurves } from "../models/TrainingView";

/** Curves of the fit that runs, or ran last, in a job: they grow while it runs. */
export function RoundsView({ job }: { job: JobDetail }) {
  const rounds: Schemas["JobRound"][] = useRounds(job).data ?? [];
  const last = rounds.at(-1);
  if (last === undefined) return null;
  const own = rounds.filter((each) => each.contender === last.contender && each.part === last.part);
  return (
    <Section title={`${last.contender}, fitted for ${last.part}`}>
      <RoundCurves rounds={own} />
    </Section>
  );
}
