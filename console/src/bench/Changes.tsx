import { useEffect, useLayoutEffect, useRef, useState, type KeyboardEvent } from "react";
import type { Transition } from "../api";
import type { Changes as All } from "./useChanges";

/** How tall a change stands in the list, and how many are drawn beyond what is seen. */
const rowHeight = 66;
const beyond = 6;

/** Up to how many changes all are drawn, so that the browser finds text in them. */
const drawnWhole = 400;

/** The list of changes with reasons, of which only those that are seen are drawn; up and down go through it. */
export function Changes({ changes, chosen, onChoose }: { changes: All; chosen?: number; onChoose: (index: number) => void }) {
  const list = useRef<HTMLDivElement>(null);
  const [seen, setSeen] = useState({ top: 0, height: 600 });
  const look = () => list.current && setSeen({ top: list.current.scrollTop, height: list.current.clientHeight });
  useLayoutEffect(() => {
    const e = list.current;
    if (!e) return;
    const watch = new ResizeObserver(look);
    watch.observe(e);
    return () => watch.disconnect();
  }, []);
  useEffect(() => {
    const e = list.current;
    if (chosen === undefined || !e) return;
    const top = chosen * rowHeight;
    if (top < e.scrollTop) e.scrollTop = top;
    else if (top + rowHeight > e.scrollTop + e.clientHeight) e.scrollTop = top + rowHeight - e.clientHeight;
  }, [chosen]);
  const few = changes.total <= drawnWhole;
  const from = few ? 0 : Math.max(0, Math.floor(seen.top / rowHeight) - beyond);
  const to = few ? changes.total : Math.min(changes.total, Math.ceil((seen.top + seen.height) / rowHeight) + beyond);
  useEffect(() => {
    if (to > from) changes.want(from, to - 1);
  }, [changes, from, to]);
  const keys = (e: KeyboardEvent) => {
    const now = chosen ?? -1;
    const page = Math.max(1, Math.floor(seen.height / rowHeight) - 1);
    const next = { ArrowDown: now + 1, ArrowUp: now - 1, PageDown: now + page, PageUp: now - page, Home: 0, End: changes.total - 1 }[e.key];
    if (next === undefined || !changes.total) return;
    e.preventDefault();
    onChoose(Math.min(Math.max(next, 0), changes.total - 1));
  };
  return (
    <section className="card flex min-h-40 flex-1 flex-col">
      <header>
        <h2 className="font-semibold">Changes</h2>
        <small className="text-ink-3">{changes.total ? `${changes.total}, click one to go there` : "none"}</small>
      </header>
      <div ref={list} className="min-h-0 flex-1 overflow-auto max-lg:max-h-96" role="listbox" aria-label="Changes" tabIndex={0} onKeyDown={keys} onScroll={look} aria-activedescendant={chosen === undefined ? undefined : `change-${chosen}`}>
        <div className="relative" style={{ height: changes.total * rowHeight }}>
          {Array.from({ length: to - from }, (_, k) => from + k).map((i) => (
            <Change key={i} index={i} total={changes.total} change={changes.at(i)} chosen={i === chosen} onChoose={() => onChoose(i)} />
          ))}
        </div>
        {!changes.total && <p className="px-3 py-2 text-ink-3">Nothing changed in this recording: no rule tripped, and no signal turned bad.</p>}
      </div>
    </section>
  );
}

function Change({ index, total, change, chosen, onChoose }: { index: number; total: number; change?: Transition; chosen: boolean; onChoose: () => void }) {
  return (
    <div
      id={`change-${index}`}
      data-change={index}
      role="option"
      aria-selected={chosen}
      aria-setsize={total}
      aria-posinset={index + 1}
      onClick={onChoose}
      style={{ top: index * rowHeight, height: rowHeight }}
      className={`absolute inset-x-0 cursor-pointer overflow-hidden border-b border-line px-3 py-1.5 ${chosen ? "bg-accent-weak" : "hover:bg-wash"}`}
    >
      {change ? (
        <>
          <div className="flex items-baseline gap-x-2">
            <span className="text-ink-2">{change.time.replace(/\.000$/, "")}</span>
            <span className="min-w-0 truncate" title={change.name}>
              {change.name}
            </span>
            <span className="ml-auto whitespace-nowrap">
              {change.from} → <b>{change.to}</b>
            </span>
          </div>
          <div className="line-clamp-2 text-xs text-ink-2" title={change.because}>
            <span className="text-ink-3">{change.kind} · </span>
            {change.because}
          </div>
        </>
      ) : (
        <span className="text-ink-3">…</span>
      )}
    </div>
  );
}
