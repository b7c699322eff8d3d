import { colorAt, letterAt, letterPaths, outlines, shapeAt } from "../draw/marks";

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

export const variantColor = (names: string[], name: string): string => colorAt(names.indexOf(name));

/** Mark is a variant's sign: colour, letter and shape. */
export function Mark({ names, name, size = 16 }: { names: string[]; name: string; size?: number }) {
  const at = names.indexOf(name);
  // The letter is drawn, not text: who copies or reads the page aloud gets the name alone.
  return (
    <svg aria-hidden="true" width={size} height={size} viewBox="-1 -1 18 18" className="inline-block shrink-0 align-[-0.15em]">
      <path d={outlines[shapeAt(at)]} fill={colorAt(at)} />
      <path d={letterPaths[letterAt(at)] ?? letterPaths["?"]} fill="none" stroke="var(--variant-ink)" strokeWidth="1.6" strokeLinecap="round" strokeLinejoin="round" />
    </svg>
  );
}

export function Variant({ names, name }: { names: string[]; name: string }) {
  return (
    <span className="font-medium whitespace-nowrap">
      <Mark names={names} name={name} /> {name}
    </span>
  );
}

/** Variants are several, of which somebody gets one. */
export function Variants({ names, of }: { names: string[]; of: string[] }) {
  return (
    <>
      {of.map((v, i) => (
        <span key={v}>
          {i > 0 && " or "}
          <Variant names={names} name={v} />
        </span>
      ))}
    </>
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
