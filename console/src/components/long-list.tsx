// A list that can hold thousands: searched, sorted, and only what is in sight is in the page.
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useLayoutEffect, useRef, useState, type ReactNode } from "react";
import { count } from "../lib/words";

/** Shorter lists need no search. */
const FEW = 6;
/** Lists up to this length are wholly in the page. */
const WHOLE = 60;

type Sort<Item> = { word: string; compare?: (a: Item, b: Item) => number };

type Properties<Item> = {
  /** What the list holds, for readers. */
  label: string;
  /** One of them as a word. */
  word: string;
  /** Several of them, where that is no s. */
  many?: string;
  items: Item[];
  keyOf: (item: Item) => string;
  /** What is searched in. */
  textOf: (item: Item) => string;
  /** The first is the order at the beginning; without a comparison it is that of the items. */
  sorts: Sort<Item>[];
  row: (item: Item) => ReactNode;
};

export function LongList<Item>({ label, word, many, items, keyOf, textOf, sorts, row }: Properties<Item>) {
  const [wanted, setWanted] = useState("");
  const [order, setOrder] = useState(0);
  const words = wanted.toLowerCase().split(/\s+/).filter(Boolean);
  const shown = items.filter((item) => {
    const text = textOf(item).toLowerCase();
    return words.every((part) => text.includes(part));
  });
  const compare = sorts[order]?.compare;
  if (compare) shown.sort(compare);
  return (
    <>
      <div className={items.length < FEW ? "hidden" : "mb-3 flex flex-wrap gap-3"}>
        <label className="min-w-0 grow">
          <span className="sr-only">Search in {label}</span>
          <input
            type="search"
            className="min-h-11 w-full rounded-lg border border-line bg-paper px-3"
            placeholder={`Search in ${count(items.length, word, many)}`}
            value={wanted}
            onChange={(event) => setWanted(event.target.value)}
          />
        </label>
        <label className={sorts.length < 2 ? "hidden" : "flex items-center gap-2"}>
          <span className="text-soft">by</span>
          <select
            aria-label={`Order of ${label}`}
            className="min-h-11 rounded-lg border border-line bg-paper px-3"
            value={order}
            onChange={(event) => setOrder(Number(event.target.value))}
          >
            {sorts.map((sort, n) => (
              <option key={sort.word} value={n}>
                {sort.word}
              </option>
            ))}
          </select>
        </label>
      </div>
      {shown.length === 0 && <p className="py-2 text-soft">Nothing fits “{wanted}”.</p>}
      {shown.length > WHOLE ? (
        <InSight label={label} items={shown} keyOf={keyOf} row={row} />
      ) : (
        <ul aria-label={label} className="divide-y divide-line">
          {shown.map((item) => (
            <li key={keyOf(item)} className="py-3 first:pt-0 last:pb-0">
              {row(item)}
            </li>
          ))}
        </ul>
      )}
    </>
  );
}

function InSight<Item>({ label, items, keyOf, row }: Pick<Properties<Item>, "label" | "items" | "keyOf" | "row">) {
  const list = useRef<HTMLUListElement>(null);
  const [above, setAbove] = useState(0);
  useLayoutEffect(() => {
    const measure = () => setAbove(Math.round((list.current?.getBoundingClientRect().top ?? 0) + window.scrollY));
    measure();
    // What stands above it may open or close.
    const watching = new ResizeObserver(measure);
    watching.observe(document.body);
    return () => watching.disconnect();
  }, []);
  const rows = useWindowVirtualizer({
    count: items.length,
    estimateSize: () => 84,
    overscan: 8,
    scrollMargin: above,
    getItemKey: (n) => {
      const item = items[n];
      return item === undefined ? n : keyOf(item);
    },
  });
  return (
    <ul ref={list} aria-label={label} className="relative" style={{ height: rows.getTotalSize() }}>
      {rows.getVirtualItems().map(({ key, index, start }) => {
        const item = items[index];
        return (
          item !== undefined && (
            <li
              key={String(key)}
              ref={rows.measureElement}
              data-index={index}
              aria-setsize={items.length}
              aria-posinset={index + 1}
              className="absolute inset-x-0 top-0 border-b border-line py-3"
              style={{ transform: `translateY(${start - above}px)` }}
            >
              {row(item)}
            </li>
          )
        );
      })}
    </ul>
  );
}
