/** A correlation on a ground as strong as it is. */
export function Shade({ value }: { value: number | null | undefined }) {
  if (value == null) return null;
  const strength = Math.round(Math.abs(value) * 45);
  const colour = value < 0 ? "var(--series-2)" : "var(--series-1)";
  return <span style={{ padding: "1px 6px", borderRadius: 3, background: `color-mix(in srgb, ${colour} ${strength}%, transparent)` }}>{value.toFixed(2)}</span>;
}
