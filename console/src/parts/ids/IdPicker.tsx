import { useMatches } from "../../api/datasets";
import { Autocomplete } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useEffect, useState } from "react";
import { matchOption } from "./MatchOption";

interface Props {
  side: "user" | "item";
  data: string;
  chosen: string;
  onChoose: (id: string) => void;
  /** Nobody stands in at first, and ids that the data does not have are taken too. */
  anyone?: boolean;
}

/** A user or an item, by id: typed, or taken from those that the data suggests. The most active one stands in at first. */
export function IdPicker({ side, data, chosen, onChoose, anyone }: Props) {
  const [edited, setEdited] = useState<string | null>(null);
  const typed = edited ?? chosen;
  const [wanted] = useDebouncedValue(edited ?? "", 200);
  const matches = useMatches(data, side, wanted);
  const first = matches.data?.[0]?.id;
  const called = useMatches(data, side, chosen).data?.find((each) => each.id === chosen)?.label;
  useEffect(() => {
    if (!anyone && !chosen && first && edited === null) onChoose(first);
  }, [anyone, chosen, first, edited, onChoose]);
  return (
    <Autocomplete
      label={side === "user" ? "User, by id or name" : "Item, by id or name"}
      size="xs"
      w={200}
      data={(matches.data ?? []).map((each) => each.id)}
      renderOption={matchOption(matches.data)}
      filter={({ options }) => options}
      description={edited === null || edited === chosen ? called : undefined}
      inputWrapperOrder={["label", "input", "description"]}
      value={typed}
      onChange={setEdited}
      onOptionSubmit={onChoose}
      onBlur={() => typed && onChoose(typed)}
      onKeyDown={(event) => event.key === "Enter" && onChoose(typed)}
    />
  );
}
