/** A thing by its name, with its id beside it; by its id alone where it has no name. */
export function NamedItem({ id, name }: { id: string; name: string | undefined }) {
  if (!name) return <>{id}</>;
  return <><span className="item-name">{name}</span> <span className="quiet id">{id}</span></>;
}
