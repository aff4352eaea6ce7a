import { TextInput } from "@mantine/core";
import { useState } from "react";
import { NAME_COLUMNS } from "../../../parts/ids/named";

/** A condition that fits the columns at hand; a name would keep one item only. */
export function exampleOf(columns: Record<string, unknown> | undefined): string | undefined {
  const told = Object.entries(columns ?? {}).filter(([name, value]) => value != null && !NAME_COLUMNS.includes(name));
  const text = told.find(([, value]) => typeof value === "string");
  if (text) return `${text[0]} = '${String(text[1])}'`;
  const number = told.find(([, value]) => typeof value === "number");
  return number && `${number[0]} >= ${String(number[1])}`;
}

/** A condition over columns, asked when it is left or Enter is pressed. */
export function Condition({ value, onSet, example }: { value: string; onSet: (next: string) => void; example?: string }) {
  const [typed, setTyped] = useState(value);
  return (
    <TextInput
      label="Condition"
      size="xs"
      w={280}
      placeholder={example}
      value={typed}
      onChange={(event) => setTyped(event.currentTarget.value)}
      onBlur={() => onSet(typed)}
      onKeyDown={(event) => event.key === "Enter" && onSet(typed)}
    />
  );
}
