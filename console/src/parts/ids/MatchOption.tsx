import type { Match } from "../../api/datasets";

/** How an option looks that stands for a user or an item: by its name, with the id beside it. */
export function matchOption(matches: Match[] | undefined) {
  return function MatchOption({ option }: { option: { value: string } }) {
    const label = matches?.find((each) => each.id === option.value)?.label;
    return label ? <span>{label} <span className="quiet">{option.value}</span></span> : <span>{option.value}</span>;
  };
}
