export type Position = "off" | "on" | "stopped";

/** Lever draws the position as a slanted bar in a slot, and says it as a word. */
export function Lever({ position, word = true }: { position: Position; word?: boolean }) {
  const color = { off: "text-soft", on: "text-lever", stopped: "text-alarm" }[position];
  const bar = { off: "M17 15 8 3", on: "M17 15 26 3", stopped: "M17 15 17 2" }[position];
  return (
    <span className={`inline-flex items-center gap-1.5 font-medium ${color}`}>
      <svg width="34" height="21" viewBox="0 0 34 21" aria-hidden="true" className="shrink-0">
        <rect x="3" y="12.5" width="28" height="7" rx="3.5" fill="none" stroke="currentColor" strokeWidth="1.5" />
        <path d={bar} stroke="currentColor" strokeWidth="4" strokeLinecap="round" />
        {position === "stopped" && <path d="M9 6.5h16" stroke="currentColor" strokeWidth="2.5" strokeLinecap="round" />}
      </svg>
      {word ? position : <span className="sr-only">{position}</span>}
    </span>
  );
}
