import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { Fragment, useLayoutEffect, useRef, useState, type ReactNode } from "react";

/** Up to how many rows a list stands on the page as it is; of more, only what is seen is there. */
const plain = 50;

interface RowsProps<T> {
  items: T[];
  keyOf: (item: T) => string;
  guess: number; // of a row's height, in pixels
  label?: string;
  className?: string;
  children: (item: T) => ReactNode;
}

/** Rows is a list of any length. */
export function Rows<T>(p: RowsProps<T>) {
  if (p.items.length > plain) return <Virtual {...p} />;
  return (
    <div role="list" aria-label={p.label} className={p.className}>
      {p.items.map((item) => (
        <Fragment key={p.keyOf(item)}>
          <div role="listitem">{p.children(item)}</div>
        </Fragment>
      ))}
    </div>
  );
}

function Virtual<T>({ items, keyOf, guess, label, className = "", children }: RowsProps<T>) {
  const list = useRef<HTMLDivElement>(null);
  const [top, setTop] = useState(0);
  useLayoutEffect(() => {
    if (list.current) setTop(list.current.getBoundingClientRect().top + window.scrollY);
  }, []);
  // oxlint-disable-next-line react/incompatible-library -- it is not memoized here
  const rows = useWindowVirtualizer({ count: items.length, estimateSize: () => guess, overscan: 8, scrollMargin: top, getItemKey: (i) => keyOf(items[i]!) });
  return (
    <div ref={list} role="list" aria-label={label} className={className} style={{ height: rows.getTotalSize(), position: "relative" }}>
      {rows.getVirtualItems().map((row) => (
        <div key={row.key} ref={rows.measureElement} data-index={row.index} role="listitem" aria-posinset={row.index + 1} aria-setsize={items.length} className="absolute top-0 left-0 w-full" style={{ transform: `translateY(${row.start - top}px)` }}>
          {children(items[row.index]!)}
        </div>
      ))}
    </div>
  );
}
