/** Estimate is a number of units, counted in a sample, with bounds. */
export interface Estimate {
  counted: number;
  units: number;
  low: number;
  high: number;
  share: number;
  shareLow: number;
  shareHigh: number;
}

const whole = new Intl.NumberFormat();

/** About prints a number of units; one that is estimated with its bounds. */
export function About({ e }: { e: Estimate }) {
  if (e.low === e.high) return <span className="tabular-nums">{whole.format(e.units)}</span>;
  return (
    <span className="tabular-nums" title={`${whole.format(e.counted)} in the sample; the bounds hold in 95 of 100 samples`}>
      about {whole.format(e.units)} <span className="text-soft">({whole.format(e.low)} to {whole.format(e.high)})</span>
    </span>
  );
}

function percentOf(share: number): string {
  const p = share * 100;
  return p === 0 || p >= 10 ? p.toFixed(0) : p.toFixed(1);
}

/** Part prints the share of all units. */
export function Part({ e }: { e: Estimate }) {
  if (e.shareLow === e.shareHigh) return <span className="tabular-nums">{percentOf(e.share)} %</span>;
  return (
    <span className="tabular-nums" title="the bounds hold in 95 of 100 samples">
      {percentOf(e.share)} % <span className="text-soft">({percentOf(e.shareLow)} to {percentOf(e.shareHigh)} %)</span>
    </span>
  );
}
