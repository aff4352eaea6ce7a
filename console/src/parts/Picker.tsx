import { Select } from "@mantine/core";
import { useNavigate } from "react-router";

interface Props {
  label: string;
  path: string;
  options: { value: string; label: string }[] | string[];
  chosen: string;
}

/** Chooses what a page shows; the choice is in the address. */
export function Picker({ label, path, options, chosen }: Props) {
  const navigate = useNavigate();
  return (
    <Select
      aria-label={label}
      size="xs"
      w={230}
      allowDeselect={false}
      data={options}
      value={chosen}
      onChange={(value) => value && void navigate(`${path}/${value}`)}
    />
  );
}
