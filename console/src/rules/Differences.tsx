import type { Change } from "../api";
import { marked } from "./text";

/** What is different, declaration by declaration. */
export function Differences({ changes, before = "before", after = "now" }: { changes: Change[]; before?: string; after?: string }) {
  return (
    <ul className="flex flex-col gap-2" data-testid="differences">
      {changes.map((c) => (
        <li key={c.keyword + c.name} className="rounded-md border border-line">
          <p className="border-b border-line px-2 py-1 text-sm">
            <b>{c.name || c.keyword}</b> <span className="text-ink-3">{c.name ? c.keyword : ""}</span> {c.before ? (c.after ? "changed" : "taken out") : "added"}
          </p>
          <div className={`grid ${c.before && c.after ? "grid-cols-2 max-sm:grid-cols-1" : ""}`}>
            {c.before && <Text head={before} text={c.before} other={c.after} sign="−" />}
            {c.after && <Text head={after} text={c.after} other={c.before} sign="+" />}
          </div>
        </li>
      ))}
    </ul>
  );
}

function Text({ head, text, other, sign }: { head: string; text: string; other: string; sign: string }) {
  return (
    <div className="min-w-0 border-line first:border-r">
      <p className="px-2 pt-1 text-xs text-ink-3">{head}</p>
      <pre tabIndex={0} className="overflow-auto px-2 pb-1.5 font-mono text-[12px] leading-relaxed">
        {marked(text, other).map(({ line, only }, i) => (
          <span key={i} className={`block ${only ? "bg-accent-weak text-accent" : "text-ink-2"}`}>
            {only ? sign : " "} {line}
          </span>
        ))}
      </pre>
    </div>
  );
}
