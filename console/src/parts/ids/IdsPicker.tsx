import { Pill, TagsInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useState } from "react";
import { fetchMatches, useMatches, useNames } from "../../api/datasets";
import { matchOption } from "./MatchOption";

const WAIT_MS = 200;

interface Props {
  label: string;
  side: "user" | "item";
  /** The version whose users and items are suggested; empty before it is known. */
  data: string;
  ids: string[];
  onChange: (ids: string[]) => void;
  placeholder?: string;
}

/** Several users or items: suggested by id or name while typing; an id can also be typed in full. */
export function IdsPicker({ label, side, data, ids, onChange, placeholder }: Props) {
  const [typed, setTyped] = useState("");
  const [isFocused, setIsFocused] = useState(false);
  const [wanted] = useDebouncedValue(typed, WAIT_MS);
  const matches = useMatches(data, side, wanted);
  const names = useNames(data, side, ids).data;
  // Enter takes the first suggestion, which must be one for what stands there by now: it is looked up where none has come
  const suggested = wanted === typed && !matches.isPlaceholderData ? (matches.data ?? []) : [];
  const takeFirst = async (text: string) => {
    const [first] = suggested.length > 0 ? suggested : await fetchMatches(data, side, text).catch(() => []);
    setTyped("");
    onChange([...new Set([...ids, first?.id ?? text])]);
  };
  return (
    <TagsInput
      label={label}
      size="xs"
      w={280}
      placeholder={ids.length > 0 ? undefined : placeholder}
      data={suggested.map((each) => each.id).filter((id) => !ids.includes(id))}
      filter={({ options }) => options}
      renderOption={matchOption(matches.data)}
      renderPill={({ value, onRemove }) => <Pill withRemoveButton onRemove={onRemove} title={value}>{names?.get(value ?? "") ?? value}</Pill>}
      acceptValueOnBlur={false}
      splitChars={["\n"]}
      // a list of suggestions for nothing would cover what is below the field
      dropdownOpened={isFocused && typed.trim() !== ""}
      onFocus={() => setIsFocused(true)}
      onBlur={() => setIsFocused(false)}
      value={ids}
      searchValue={typed}
      onSearchChange={setTyped}
      onChange={onChange}
      onKeyDown={(event) => {
        // an option that the arrows chose is taken as usual
        const chosen = event.currentTarget.getAttribute("aria-activedescendant");
        if (event.key !== "Enter" || typed.trim() === "" || chosen) return;
        event.preventDefault();
        event.stopPropagation();
        void takeFirst(typed.trim());
      }}
    />
  );
}
