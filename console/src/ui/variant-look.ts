/* How a variant looks: its place among the names of its flag gives its colour, its letter and its shape, so
   that they never change while the flag's variants stay, and never is it colour alone. */

const shades = 7;

export const shapes = ["square", "round", "lozenge", "shield", "notch", "hexagon"] as const;

export type Shape = (typeof shapes)[number];

/** Outlines of the shapes on a field of 16 by 16. */
export const outlines: Record<Shape, string> = {
  square: "M1 1H15V15H1Z",
  round: "M8 0.5A7.5 7.5 0 1 1 8 15.5A7.5 7.5 0 1 1 8 0.5Z",
  lozenge: "M8 -0.5L16.5 8L8 16.5L-0.5 8Z",
  shield: "M1 1H15V9Q15 14 8 16Q1 14 1 9Z",
  notch: "M1 1H11L15 5V15H1Z",
  hexagon: "M4 1H12L16 8L12 15H4L0 8Z",
};

export const colorAt = (at: number): string => `var(--variant-${at < 0 ? shades - 1 : at % shades})`;

export const letterAt = (at: number): string => (at < 0 ? "?" : String.fromCodePoint(65 + (at % 26)));

export const shapeAt = (at: number): Shape => shapes[at < 0 ? 0 : at % shapes.length]!;
