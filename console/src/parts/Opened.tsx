import { useEffect, useRef, type ReactNode } from "react";

/** A panel that begins lower than this share of the window and does not end within it is scrolled up. */
const LOWEST_START = 0.4;
/** A panel that has not loaded yet is short, and grows: it must not begin so near the end of the window. */
const ROOM_PX = 200;

/** A panel that a person opened. It is scrolled into view where it opens outside the window, and again when `id`, what it
 * shows, becomes another. */
export function Opened({ id, children }: { id: string | number; children: ReactNode }) {
  const panel = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const box = panel.current?.getBoundingClientRect();
    if (!box) return;
    const goesOn = box.bottom > window.innerHeight && box.top > LOWEST_START * window.innerHeight;
    const isOutside = box.top < 0 || goesOn || box.top > window.innerHeight - ROOM_PX;
    if (isOutside) panel.current?.scrollIntoView({ block: "start" });
  }, [id]);
  return <div ref={panel} className="opened">{children}</div>;
}
