import type { ModelCard } from "../../api/models";

/** One way to say how much someone liked an item; `value` as a request takes it, none for a typical interaction. */
export interface Mark {
  label: string;
  value?: number;
}

const COUNTS: Mark[] = [{ label: "a little", value: 0.5 }, { label: "typical" }, { label: "a lot", value: 3 }];
const MOST_STEPS = 10;

/** The choices for an item: a value, where the model predicts values, otherwise a weight. */
export function marksFor(card: ModelCard | undefined): Mark[] {
  if (!card?.predicts_values || !card.scale) return COUNTS;
  const [low, high] = card.scale as [number, number];
  const step = high - low <= MOST_STEPS ? 1 : (high - low) / MOST_STEPS;
  const steps = Array.from({ length: Math.floor((high - low) / step) + 1 }, (_, at) => low + at * step);
  return [{ label: "picked" }, ...steps.map((value) => ({ label: String(Number(value.toFixed(2))), value }))];
}
