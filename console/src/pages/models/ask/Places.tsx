import { Anchor, Button } from "@mantine/core";
import { Link } from "react-router";
import { FigureTable, type FigureColumn } from "../../../parts/FigureTable";
import { percent } from "../../../parts/format";
import { NAME_COLUMNS } from "../../../parts/ids/named";

const MOST_COLUMNS = 4;
interface Place {
  id: string;
  position: number;
  score: number;
  likelihood?: number | null;
  raw?: number | null;
  overlap?: number | null;
  columns: Record<string, unknown>;
}

/** What a likeness is worked out from, where a person can redo it. */
const BY_HAND: FigureColumn<Place>[] = [
  { title: "raw", number: true, value: (row) => row.raw ?? null, show: (row) => row.raw?.toFixed(4) ?? "" },
  { title: "overlap", number: true, value: (row) => row.overlap ?? null },
];

/** Of models that answer chances. */
const CHANCES: FigureColumn<Place>[] = [
  { title: "likelihood", number: true, value: (row) => row.likelihood ?? null, show: (row) => (row.likelihood == null ? "" : percent(row.likelihood)) },
];

interface PlacesProps {
  label: string;
  what: string;
  rows: Place[];
  score?: string;
  /** Works the likeness of one of them by hand. */
  onWork?: (id: string) => void;
  /** The page about one of them. */
  pageOf?: (id: string) => string;
}

/** What a model lists, with the columns that say most in little room. */
export function Places({ label, what, rows, score = "score", onWork, pageOf }: PlacesProps) {
  const text = (value: unknown): string => (value == null ? "" : Array.isArray(value) ? value.join(", ") : String(value));
  const fit = Object.keys(rows[0]?.columns ?? {}).filter((each) => Math.max(...rows.map((row) => text(row.columns[each]).length)) <= 40);
  // what people call a thing comes first, wherever its table has it
  const short = fit.toSorted((one, other) => Number(NAME_COLUMNS.includes(other)) - Number(NAME_COLUMNS.includes(one)));
  const columns: FigureColumn<Place>[] = [
    { title: "place", number: true, value: (row) => row.position },
    { title: what, value: (row) => row.id, show: (row) => (pageOf ? <Anchor component={Link} className="id" inherit to={pageOf(row.id)}>{row.id}</Anchor> : <span className="id">{row.id}</span>) },
    { title: score, number: true, value: (row) => row.score, show: (row) => row.score.toFixed(4) },
    ...(rows.some((row) => row.likelihood != null) ? CHANCES : []),
    ...(rows.some((row) => row.raw != null) ? BY_HAND : []),
    ...short.slice(0, MOST_COLUMNS).map(
      (each): FigureColumn<Place> => ({
        title: each.replaceAll("_", " "),
        value: (row) => text(row.columns[each]),
        show: (row) => (NAME_COLUMNS.includes(each) ? <span className="item-name">{text(row.columns[each])}</span> : text(row.columns[each])),
      }),
    ),
    ...(onWork ? [{ title: "", value: () => null, show: (row: Place) => <Button size="compact-xs" variant="subtle" onClick={() => onWork(row.id)}>Work by hand</Button> }] : []),
  ];
  return <FigureTable label={label} rows={rows} rowKey={(row) => row.id} columns={columns} />;
}
