import { bands, bend, type Branch, type Stage } from "../../draw/track";
import { variantColor } from "../../ui/variant";

/** How far below the top of its row a branch turns, in pixels, and how round. */
export const turn = 20;
const round = 12;

export const tinted = (color: string) => `color-mix(in srgb, ${color} 20%, var(--sheet))`;

const flowing = "color-mix(in srgb, var(--ink) 22%, var(--sheet))";

/** Rail is the piece of the line beside one branch: it comes in from above, the branch leaves it, and what is
    left goes on below. What it was before the edit is drawn in dots. */
export function Rail({ stage, gets, names, width, edited, halted, dotted }: { stage: Stage; gets: Branch["gets"]; names: string[]; width: number; edited: boolean; halted: boolean; dotted: boolean }) {
  const parts = bands(stage.width, gets);
  return (
    <div aria-hidden="true" className="relative self-stretch" style={{ width }}>
      {edited && stage.wasNext !== stage.next && stage.wasNext > 0 && <div className="absolute top-0 bottom-0 left-0 border-r-2 border-dotted border-soft" style={{ width: stage.wasNext }} />}
      {stage.next > 0 && <div className="absolute top-0 bottom-0 left-0" style={{ width: stage.next, background: halted ? "var(--well)" : flowing }} />}
      <svg width={width} height={turn + Math.max(stage.width, stage.was) + 4} className="absolute top-0 left-0">
        {parts.map((p) => (
          <path key={p.variant} d={bend(stage.line - p.from, p.width, turn + p.from, round + p.from, width)} fill={halted ? "var(--well)" : variantColor(names, p.variant)} />
        ))}
        {parts.length === 0 && <path d={bend(stage.line, 1, turn, round, width)} fill="none" stroke="var(--edge)" strokeDasharray="3 3" opacity={dotted ? 1 : 0.7} />}
        {edited && stage.was > 0 && stage.was !== stage.width && <path d={bend(stage.wasLine, stage.was, turn, round, width)} fill="none" stroke="var(--soft)" strokeWidth="2" strokeDasharray="2 3" />}
      </svg>
    </div>
  );
}

/** Band goes on from the rail to the right edge, where it says which variant it gives. */
export function Band({ stage, gets, names, edited, halted }: { stage: Stage; gets: Branch["gets"]; names: string[]; edited: boolean; halted: boolean }) {
  return (
    <div aria-hidden="true">
      {bands(stage.width, gets).map((p) => (
        <div
          key={p.variant}
          className="absolute right-0 left-0"
          style={{
            top: turn + p.from,
            height: p.width,
            background: halted ? "var(--well)" : p.width > 8 ? tinted(variantColor(names, p.variant)) : variantColor(names, p.variant),
            borderRight: `8px solid ${halted ? "var(--edge)" : variantColor(names, p.variant)}`,
          }}
        />
      ))}
      {edited && stage.was > 0 && stage.was !== stage.width && <div className="absolute right-0 left-0 border-y-2 border-dotted border-soft" style={{ top: turn, height: stage.was }} />}
    </div>
  );
}
