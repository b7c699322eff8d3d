/* How a variant looks: its place among the names of its flag gives its colour, its letter and its shape, so
   that they never change while the flag's variants stay, and never is it colour alone. */

/** Colours on white; pages have them as tokens, for light and dark. */
export const colors = ["#2c62ab", "#ad5f06", "#6d3f8c", "#1e7590", "#7b640b", "#a04077", "#555c63"];

const shades = colors.length;

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

/** Letters as lines on a field of 16 by 16, for marks that are drawn. */
export const letterPaths: Record<string, string> = {
  A: "M5 12L8 4L11 12M6 9.5H10",
  B: "M5.5 4V12H9Q11 12 11 10Q11 8 9 8H5.5M9 8Q10.5 8 10.5 6Q10.5 4 8.5 4H5.5",
  C: "M11 5.5Q10 4 8 4Q5 4 5 8Q5 12 8 12Q10 12 11 10.5",
  D: "M5.5 4V12H7.5Q11 12 11 8Q11 4 7.5 4Z",
  E: "M10.5 4H5.5V12H10.5M5.5 8H9.5",
  F: "M10.5 4H5.5V12M5.5 8H9.5",
  G: "M11 5.5Q10 4 8 4Q5 4 5 8Q5 12 8 12Q11 12 11 8.5H8.5",
  H: "M5.5 4V12M10.5 4V12M5.5 8H10.5",
  I: "M8 4V12",
  J: "M9.5 4V10Q9.5 12 7.5 12Q5.5 12 5.5 10",
  K: "M5.5 4V12M10.5 4L5.5 8.5L10.5 12",
  L: "M5.5 4V12H10.5",
  M: "M4.5 12V4L8 9L11.5 4V12",
  N: "M5.5 12V4L10.5 12V4",
  O: "M8 4Q11 4 11 8Q11 12 8 12Q5 12 5 8Q5 4 8 4Z",
  P: "M5.5 12V4H8.5Q10.5 4 10.5 6.2Q10.5 8.4 8.5 8.4H5.5",
  Q: "M8 4Q11 4 11 8Q11 12 8 12Q5 12 5 8Q5 4 8 4ZM8.5 10L11 12.5",
  R: "M5.5 12V4H8.5Q10.5 4 10.5 6.2Q10.5 8.4 8.5 8.4H5.5M8.5 8.4L10.5 12",
  S: "M10.5 5Q10 4 8 4Q5.5 4 5.5 6Q5.5 7.5 8 8Q10.5 8.5 10.5 10Q10.5 12 8 12Q6 12 5.5 11",
  T: "M5 4H11M8 4V12",
  U: "M5.5 4V9.5Q5.5 12 8 12Q10.5 12 10.5 9.5V4",
  V: "M5 4L8 12L11 4",
  W: "M4.5 4L6.2 12L8 7L9.8 12L11.5 4",
  X: "M5.5 4L10.5 12M10.5 4L5.5 12",
  Y: "M5.5 4L8 8L10.5 4M8 8V12",
  Z: "M5.5 4H10.5L5.5 12H10.5",
  "?": "M6 5.5Q6 4 8 4Q10 4 10 6Q10 7.5 8 8.2V9.5M8 12V12.1",
};
