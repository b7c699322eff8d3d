import { useState, type InputHTMLAttributes } from "react";
import { inputStyle } from "./controls";

interface ParsedProps<T> extends Omit<InputHTMLAttributes<HTMLInputElement>, "value" | "onChange"> {
  label: string;
  value: T;
  format: (v: T) => string;
  parse: (text: string) => T | undefined;
  wrong: string; // said while what is typed is none
  onChange: (v: T) => void;
}

/** Parsed is a field for what is no text. It keeps what is typed only as long as that says the value that
    stands, or nothing yet: so undo, and others, change what it shows. */
export function Parsed<T>({ label, value, format, parse, wrong, onChange, className = "", ...rest }: ParsedProps<T>) {
  const [typed, setTyped] = useState<{ text: string; on: string }>();
  const shown = format(value);
  const read = typed && parse(typed.text);
  const holds = typed !== undefined && (read === undefined ? typed.on === shown : format(read) === shown);
  const bad = holds && read === undefined;
  return (
    <>
      <input
        {...rest}
        aria-label={label}
        aria-invalid={bad}
        className={`${inputStyle} ${bad ? "border-alarm!" : ""} ${className}`}
        value={holds ? typed.text : shown}
        onChange={(e) => {
          const now = parse(e.target.value);
          setTyped({ text: e.target.value, on: now === undefined ? shown : format(now) });
          if (now !== undefined) onChange(now);
        }}
        onBlur={() => read !== undefined && setTyped(undefined)}
      />
      {bad && (
        <span role="alert" className="text-xs text-alarm">
          {wrong}
        </span>
      )}
    </>
  );
}
