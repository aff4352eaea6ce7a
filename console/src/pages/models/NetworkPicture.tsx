import type { Schemas } from "../../api/http";
import type { ModelCard } from "../../api/models";
import { ChartFrame } from "../../parts/charts/ChartFrame";
import { count } from "../../parts/format";

type Piece = Schemas["NetworkPiece"];

const BOX = { width: 270, height: 44, gap: 12 };
const SIDES = [
  { side: "user", title: "the user", x: 10 },
  { side: "item", title: "the item", x: 330 },
] as const;
const WIDE = 610;
const TOP = 30;

/** What a network is made of: the user's side, the item's, and below them where they meet. */
export function NetworkPicture({ card }: { card: ModelCard }) {
  const pieces = card.network ?? [];
  if (pieces.length === 0) return null;
  const of = (side: Piece["side"]) => pieces.filter((each) => each.side === side);
  const deepest = Math.max(of("user").length, of("item").length);
  const meeting = TOP + deepest * (BOX.height + BOX.gap) + 20;
  const both = of("both");
  return (
    <ChartFrame
      title="The network"
      rows={pieces}
      rowKey={(row) => `${row.side} ${row.name}`}
      columns={[
        { title: "side", value: (row) => row.side },
        { title: "part", value: (row) => row.name },
        { title: "takes", value: (row) => row.takes },
        { title: "numbers out", number: true, value: (row) => row.width, show: (row) => count(row.width) },
        { title: "weights", number: true, value: (row) => row.weights, show: (row) => count(row.weights) },
      ]}
    >
      <svg viewBox={`0 0 ${WIDE} ${meeting + both.length * (BOX.height + BOX.gap)}`} style={{ maxWidth: WIDE, width: "100%" }} aria-hidden="true">
        {SIDES.map(({ side, title, x }) => (
          <g key={side}>
            <text x={x + BOX.width / 2} y={18} textAnchor="middle" className="network-title">{title}</text>
            {of(side).map((piece, place) => <Box key={piece.name} piece={piece} x={x} y={TOP + place * (BOX.height + BOX.gap)} />)}
            <polyline points={`${x + BOX.width / 2},${TOP + of(side).length * (BOX.height + BOX.gap) - BOX.gap} ${x + BOX.width / 2},${meeting - 12} ${WIDE / 2},${meeting - 12} ${WIDE / 2},${meeting}`} className="network-line" />
          </g>
        ))}
        {both.map((piece, place) => <Box key={piece.name} piece={piece} x={(WIDE - BOX.width) / 2} y={meeting + place * (BOX.height + BOX.gap)} />)}
      </svg>
    </ChartFrame>
  );
}

function Box({ piece, x, y }: { piece: Piece; x: number; y: number }) {
  return (
    <g>
      <rect x={x} y={y} width={BOX.width} height={BOX.height} rx={6} className="network-box" />
      <text x={x + 10} y={y + 18} className="network-name">{piece.name}</text>
      <text x={x + BOX.width - 10} y={y + 18} textAnchor="end" className="network-width">{piece.width} out</text>
      <text x={x + 10} y={y + 35} className="network-takes">{piece.takes}</text>
    </g>
  );
}
