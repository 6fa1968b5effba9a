import { memo, useLayoutEffect, useRef, useState, type ReactNode } from "react";

/** Rows that are kept above and below what is seen, so that keys and quick hands find some. */
const beyond = 40;
/** Up to so many rows are all in the page. */
const few = 200;

/** How a list goes on to older ones; nothing while that is under way, or at its end. */
export const older = (list: { hasNextPage: boolean; isFetching: boolean; fetchNextPage: () => void }) =>
  list.hasNextPage && !list.isFetching ? () => list.fetchNextPage() : undefined;

/** Which rows are in the page. */
const within = (shown: { first: number; last: number }, count: number) =>
  count <= few ? { first: 0, last: count } : { first: Math.min(shown.first, count), last: Math.min(shown.last, count) };

type One<T> = { item: T; row: (item: T) => ReactNode; still: boolean; also: unknown };

/** A row that is drawn anew only when something else is to be seen in it: scrolling draws many. */
const One = memo(
  <T,>({ item, row }: One<T>) => row(item),
  (old, one) => one.still && old.item === one.item && old.also === one.also,
) as <T>(props: One<T>) => ReactNode;

/** The rows of a table of which only those near to what is seen are in the page, however many there are. The others keep
 * their room. With more, what follows is asked for as its place comes near. Also is what a row shows besides its item;
 * without it, rows are drawn anew each time, as those need that tell how long ago something was. */
export function Rows<T>({
  items,
  id,
  row,
  also,
  more,
}: {
  items: T[];
  id: (item: T) => string;
  row: (item: T) => ReactNode;
  also?: (item: T) => unknown;
  more?: () => void;
}) {
  const top = useRef<HTMLTableRowElement>(null);
  // height is that of a row that is not in the page: the mean of the first ones.
  const [shown, setShown] = useState({ first: 0, last: few, height: 0 });
  const latest = useRef({ items, more, shown });
  latest.current = { items, more, shown };
  useLayoutEffect(() => {
    const body = top.current?.parentElement;
    const scroller = body?.closest("main");
    if (!body || !scroller) return;
    let waits = 0;
    const look = () => {
      waits = 0;
      const { items, more, shown } = latest.current;
      const inside = body.getBoundingClientRect();
      const { first, last } = within(shown, items.length);
      const rows = last - first;
      const spared = (first + items.length - last) * shown.height;
      const mean = rows > 0 ? Math.max(16, (inside.height - spared) / rows) : 34;
      const height = shown.height || mean;
      const begin = first * height; // where the rows begin that are in the page
      const place = (y: number) => {
        if (y < begin) return Math.floor(y / height);
        return Math.floor(first + Math.min((y - begin) / mean, rows) + Math.max(0, y - begin - rows * mean) / height);
      };
      const above = scroller.getBoundingClientRect().top - inside.top;
      const [from, to] = [place(Math.max(0, above)), place(above + scroller.clientHeight)];
      if (more && to > items.length - beyond) more();
      const near = from < first + 10 && first > 0;
      const far = to > last - 10 && last < items.length;
      if (near || far || !shown.height) {
        setShown({ first: Math.max(0, from - beyond), last: to + beyond, height });
      }
    };
    const soon = () => {
      waits ||= requestAnimationFrame(look);
    };
    scroller.addEventListener("scroll", soon, { passive: true });
    window.addEventListener("resize", soon);
    soon();
    return () => {
      cancelAnimationFrame(waits);
      scroller.removeEventListener("scroll", soon);
      window.removeEventListener("resize", soon);
    };
  }, [items.length]);
  const { first, last } = within(shown, items.length);
  return (
    <>
      <tr ref={top} aria-hidden style={{ height: first * shown.height }} />
      {items.slice(first, last).map((item) => (
        <One key={id(item)} item={item} row={row} still={!!also} also={also?.(item)} />
      ))}
      <tr aria-hidden style={{ height: (items.length - last) * shown.height }} />
    </>
  );
}
