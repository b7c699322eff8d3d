import { colors, letterPaths, outlines, shapeAt, letterAt } from "./marks";
import { bands, bend, stages, type Branch } from "./track";

/* The track as a picture by itself, for a ticket or a page elsewhere: no style sheet, no script. */

export interface Picture {
  title: string; // of the flag, and where
  sentence: string;
  names: string[];
  total: number;
  branches: (Branch & { says: string; name: string })[];
  totals: { variant: string; units: number }[];
}

const width = 960;
const full = 120;
const rail = 150;
const font = 'font-family="system-ui, Liberation Sans, DejaVu Sans, sans-serif"';

const escaped = (s: string) => s.replaceAll("&", "&amp;").replaceAll("<", "&lt;").replaceAll(">", "&gt;").replaceAll('"', "&quot;");

/** wrap breaks a text into lines of at most so many letters. */
export function wrap(text: string, most: number): string[] {
  const lines: string[] = [];
  for (const word of text.split(" ")) {
    const last = lines.at(-1);
    if (last !== undefined && last.length + 1 + word.length <= most) lines[lines.length - 1] = `${last} ${word}`;
    else lines.push(word);
  }
  return lines;
}

const text = (x: number, y: number, size: number, said: string, more = "") => `<text x="${x}" y="${y}" font-size="${size}" fill="#1b1f23" ${font} ${more}>${escaped(said)}</text>`;

/** trackSVG draws a flag's track in light colours. */
export function trackSVG(p: Picture): string {
  const color = (variant: string) => colors[Math.max(0, p.names.indexOf(variant)) % colors.length]!;
  const mark = (variant: string, x: number, y: number, size: number) => {
    const at = p.names.indexOf(variant);
    return `<g transform="translate(${x} ${y}) scale(${size / 16})"><path d="${outlines[shapeAt(at)]}" fill="${color(variant)}"/><path d="${letterPaths[letterAt(at)] ?? ""}" fill="none" stroke="#fff" stroke-width="1.6" stroke-linecap="round" stroke-linejoin="round"/></g>`;
  };
  const out: string[] = [];
  let y = 32;
  out.push(text(24, y, 20, p.title, 'font-weight="600"'));
  for (const line of wrap(p.sentence, 110)) out.push(text(24, (y += 22), 14, line));
  y += 20;
  out.push(text(24 + rail, y + 16, 14, `${p.total.toLocaleString()} units`));
  const drawn = stages({ before: p.total, after: p.total }, p.branches, full);
  const rows = p.branches.map((b, i) => {
    const stage = drawn[i]!;
    const lines = [...wrap(b.says, 90)];
    const at = stage.width > 40 ? 20 : stage.width + 20;
    return { b, stage, lines, at, height: Math.max(20 + stage.width + 12, 20 + at + 18 * lines.length + 14) };
  });
  out.push(`<rect x="24" y="${y}" width="${full}" height="28" fill="#cdd1ca"/>`);
  y += 28;
  for (const { b, stage, lines, at, height } of rows) {
    if (stage.next > 0) out.push(`<rect x="24" y="${y}" width="${stage.next}" height="${height}" fill="#cdd1ca"/>`);
    for (const part of bands(stage.width, b.gets)) {
      out.push(`<path transform="translate(24 ${y})" d="${bend(stage.line - part.from, part.width, 20 + part.from, 12 + part.from, rail)}" fill="${color(part.variant)}"/>`);
      out.push(`<rect x="${24 + rail}" y="${y + 20 + part.from}" width="${width - 48 - rail}" height="${part.width}" fill="${color(part.variant)}" fill-opacity="0.28"/>`);
      out.push(`<rect x="${width - 32}" y="${y + 20 + part.from}" width="8" height="${part.width}" fill="${color(part.variant)}"/>`);
    }
    const x = 24 + rail + 12;
    out.push(text(x, y + 20 + at, 12, `${b.name}: ${Math.round(b.takes.after).toLocaleString()}`, 'fill-opacity="0.75"'));
    lines.forEach((line, i) => out.push(text(x, y + 38 + at + 18 * i, 14, line)));
    y += height;
  }
  y += 16;
  let x = 24;
  for (const band of bands(width - 48, p.totals.map((t) => ({ variant: t.variant, part: t.units })))) {
    out.push(`<rect x="${(24 + band.from).toFixed(1)}" y="${y}" width="${band.width.toFixed(1)}" height="20" fill="${color(band.variant)}"/>`);
  }
  y += 48;
  for (const t of p.totals) {
    out.push(mark(t.variant, x, y - 16, 18), text(x + 26, y, 18, `${t.variant} ${t.units.toLocaleString()}`, 'font-weight="600"'));
    x += 220;
    if (x > width - 200) {
      x = 24;
      y += 32;
    }
  }
  y += 24;
  return `<svg xmlns="http://www.w3.org/2000/svg" width="${width}" height="${y}" viewBox="0 0 ${width} ${y}"><rect width="${width}" height="${y}" fill="#ffffff"/>${out.join("")}</svg>`;
}
