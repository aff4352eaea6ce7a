const RUN = /^[=+\-@\t\r]/;
const NUMBER = /^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$/;

/** Cells as CSV text, quoted where they need it; an apostrophe keeps a spreadsheet from running one. */
export function toCsv(header: string[], rows: (string | number | null)[][]): string {
  const cell = (value: string | number | null) => {
    const given = value === null ? "" : String(value);
    const text = RUN.test(given) && !NUMBER.test(given) ? `'${given}` : given;
    return /[",\n\r]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
  };
  return [header, ...rows].map((row) => row.map(cell).join(",")).join("\n") + "\n";
}

/** Hand bytes to the browser as a file. */
export function save(name: string, content: Blob): void {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(content);
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}

/** An SVG as it looks on the page, its styles written into it so that it looks the same elsewhere. */
export function standalone(svg: SVGSVGElement): string {
  const copy = svg.cloneNode(true) as SVGSVGElement;
  const originals = svg.querySelectorAll<SVGElement>("*");
  copy.querySelectorAll<SVGElement>("*").forEach((node, index) => {
    const original = originals[index];
    if (!original) return;
    const style = getComputedStyle(original);
    for (const property of ["fill", "stroke", "stroke-width", "stroke-dasharray", "font-family", "font-size", "opacity"]) {
      node.style.setProperty(property, style.getPropertyValue(property));
    }
  });
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  copy.setAttribute("width", String(svg.clientWidth));
  copy.setAttribute("height", String(svg.clientHeight));
  return new XMLSerializer().serializeToString(copy);
}

/** Draw an SVG into a PNG at twice its size. */
export async function toPng(svg: SVGSVGElement): Promise<Blob> {
  const image = new Image();
  image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(standalone(svg))}`;
  await image.decode();
  const canvas = document.createElement("canvas");
  canvas.width = svg.clientWidth * 2;
  canvas.height = svg.clientHeight * 2;
  const context = canvas.getContext("2d");
  if (!context) throw new Error("this browser cannot draw a PNG");
  context.fillStyle = getComputedStyle(document.body).backgroundColor;
  context.fillRect(0, 0, canvas.width, canvas.height);
  context.drawImage(image, 0, 0, canvas.width, canvas.height);
  return new Promise((resolve, reject) => {
    canvas.toBlob((blob) => (blob ? resolve(blob) : reject(new Error("the PNG could not be made"))));
  });
}
