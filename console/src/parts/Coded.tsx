/** A text whose words between backticks are set as code. */
export function Coded({ text }: { text: string }) {
  return <>{text.split("`").map((part, place) => (place % 2 === 1 ? <code key={place}>{part}</code> : part))}</>;
}
