/** What can be told from the comparison, and what cannot. */
export function Sentences({ lines }: { lines: string[] }) {
  return (
    <ul style={{ margin: "0 0 1rem", paddingLeft: "1.1rem" }}>
      {lines.map((line) => (
        <li key={line} className={/^(Cannot tell|Not shown|Worse than)/.test(line) ? "warn" : undefined}>{line}</li>
      ))}
    </ul>
  );
}
