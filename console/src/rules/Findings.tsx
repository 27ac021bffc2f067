import type { Finding } from "../api";

/** What is found; one that is pressed opens the text in which it is. */
export function Findings({ findings, onOpen }: { findings: Finding[]; onOpen: (f: Finding) => void }) {
  const most = 12;
  return (
    <ul className="flex flex-col gap-1 empty:hidden" aria-label="Findings" data-testid="findings">
      {findings.slice(0, most).map((f) => (
        <li key={`${f.file}:${f.line}:${f.column}${f.code}`} className="card">
          <button type="button" onClick={() => onOpen(f)} className="w-full px-3 py-1.5 text-left text-sm text-ink-2 hover:bg-wash">
            <b className={f.severity === "error" ? "text-critical" : ""}>
              {f.severity === "error" ? "✕" : "!"} {f.severity}, {f.file}:{f.line}:{f.column}
            </b>{" "}
            {f.text} <span className="text-ink-3">[{f.code}]</span>
          </button>
        </li>
      ))}
      {findings.length > most && <li className="px-3 text-sm text-ink-3">and {findings.length - most} more</li>}
    </ul>
  );
}
