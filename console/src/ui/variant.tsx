/** What the service says: plainly, and token by token. */
export interface Sentence {
  text: string;
  tokens: SentenceToken[];
}

interface SentenceToken {
  kind?: "" | "variant" | "attribute" | "value" | "unit" | "name" | "key" | "number" | "time" | undefined;
  text: string;
  of?: string | undefined;
  low?: number | undefined;
  high?: number | undefined;
}

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

/** Said prints what the service says, token by token: variants by their colours, instants in the
    reader's own zone, with the exact one at hand. */
export function Said({ said, names = [] }: { said: Sentence | undefined; names?: string[] }) {
  return (
    <>
      {said?.tokens.map((token, i) => {
        // Pieces of a sentence have no identity but their place.
        return <Token key={`${i}`} token={token} names={names} />;
      })}
    </>
  );
}

/** grouped prints a whole number as the reader's language does, and anything else as it is. */
const grouped = (text: string) => (/^\d{5,}$/.test(text) ? Number(text).toLocaleString() : text);

function Token({ token, names }: { token: SentenceToken; names: string[] }) {
  switch (token.kind) {
    case "variant":
      return <Variant names={names} name={token.text} />;
    case "name":
      return <i>{token.text}</i>;
    case "value":
    case "unit":
      return <span title={token.of}>{JSON.stringify(token.text)}</span>;
    case "attribute":
      return token.of === token.text ? <>{token.text}</> : <span title={token.of}>{token.text}</span>;
    case "time": {
      const at = new Date(token.text);
      return isNaN(at.getTime()) ? <>{token.text}</> : <time dateTime={token.text} title={token.text}>{at.toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" })}</time>;
    }
    case "number":
      return token.low === undefined || token.high === undefined ? <span className="whitespace-nowrap">{grouped(token.text)}</span> : <>about {Number(token.text).toLocaleString()} <span className="text-soft">({token.low.toLocaleString()} to {token.high.toLocaleString()})</span></>;
    default:
      return <>{token.text}</>;
  }
}
