/* Colours that can be told apart without red and green; a letter goes with each. A
   variant's place among the names of its flag gives both, so they never change while the
   flag's variants stay. */
const colors = ["#3f72b8", "#cf7a1c", "#84589f", "#4aa0bd", "#b3932a", "#b85f8f", "#70757c"];

export function variantColor(names: string[], name: string): string {
  const at = names.indexOf(name);
  return colors[(at < 0 ? 6 : at) % colors.length]!;
}

export function Variant({ names, name }: { names: string[]; name: string }) {
  const at = names.indexOf(name);
  return (
    <span className="inline-flex items-center gap-1 font-medium">
      <span aria-hidden="true" className="inline-flex h-4 w-4 items-center justify-center rounded-sm text-[10px] leading-none text-white" style={{ background: variantColor(names, name) }}>
        {at < 0 ? "?" : String.fromCharCode(65 + (at % 26))}
      </span>
      {name}
    </span>
  );
}

/** Said prints a generated sentence, with the names between backticks as variants. */
export function Said({ text, names }: { text: string; names: string[] }) {
  return (
    <>
      {text.split("`").map((part, i) =>
        // Every second piece stands between backticks; pieces have no identity of their own.
        // oxlint-disable-next-line react/no-array-index-key
        i % 2 === 1 ? <Variant key={i} names={names} name={part} /> : <span key={i}>{part}</span>,
      )}
    </>
  );
}
