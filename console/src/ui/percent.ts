/** percent prints parts per million exactly: 80000 is "8 %". */
export function percent(ppm: number): string {
  const whole = Math.floor(ppm / 10_000);
  const part = String(ppm % 10_000).padStart(4, "0").replace(/0+$/, "");
  return part === "" ? `${whole} %` : `${whole}.${part} %`;
}

/** parsePercent reads a percentage, with a point or a comma, as parts per million without passing through a float; undefined if it is none. */
export function parsePercent(text: string): number | undefined {
  const m = /^\s*(\d{1,3})(?:[.,](\d{1,4}))?\s*%?\s*$/.exec(text);
  if (!m) return undefined;
  const ppm = Number(m[1]) * 10_000 + Number((m[2] ?? "").padEnd(4, "0"));
  return ppm <= 1_000_000 ? ppm : undefined;
}
