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
    <span className="font-medium whitespace-nowrap">
      {/* The letter is drawn, not text: who copies or reads the page aloud gets the name alone. */}
      <span
        aria-hidden="true"
        data-letter={at < 0 ? "?" : String.fromCharCode(65 + (at % 26))}
        className="mr-1 inline-flex h-4 w-4 items-center justify-center rounded-sm align-[0.1em] text-[10px] leading-none text-white before:content-[attr(data-letter)]"
        style={{ background: variantColor(names, name) }}
      />
      {name}
    </span>
  );
}

/** Said prints a generated sentence: names between backticks as variants, those between
    stars as the names of rules. */
export function Said({ text, names }: { text: string; names: string[] }) {
  return (
    <>
      {text.split(/(`[^`]+`|\*[^*]+\*)/).map((part, i) => {
        // Pieces of a sentence have no identity but their place.
        const key = `${i}`;
        if (part.startsWith("`")) return <Variant key={key} names={names} name={part.slice(1, -1)} />;
        if (part.startsWith("*") && part.length > 2) return <i key={key}>{part.slice(1, -1)}</i>;
        return <span key={key}>{part}</span>;
      })}
    </>
  );
}
