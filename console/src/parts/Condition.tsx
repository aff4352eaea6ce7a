import { TextInput } from "@mantine/core";
import { useState } from "react";

interface ConditionProps {
  label?: string;
  value: string;
  onSet: (next: string) => void;
  example?: string;
}

/** A condition over columns, set when it is left or Enter is pressed. */
export function Condition({ label = "Condition", value, onSet, example }: ConditionProps) {
  const [typed, setTyped] = useState(value);
  const set = () => typed.trim() !== value && onSet(typed.trim());
  return (
    <TextInput
      label={label}
      size="xs"
      w={280}
      placeholder={example}
      value={typed}
      onChange={(event) => setTyped(event.currentTarget.value)}
      onBlur={set}
      onKeyDown={(event) => event.key === "Enter" && set()}
    />
  );
}
