import { ArrowDown, ArrowUp } from "lucide-react";
import { useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import type { Point } from "../api";
import { Code, Empty, Trouble } from "../parts/Notice";
import { Pick } from "../parts/Pick";
import { useRevision } from "../parts/useRevision";
import { Opened } from "./Opened";

type Column = "point" | "kind" | "tag" | "scaling" | "used";

const heads: { column: Column; text: string; width: string }[] = [
  { column: "point", text: "point", width: "w-[36%] max-sm:w-[48%]" },
  { column: "kind", text: "kind", width: "w-[10%] max-sm:hidden" },
  { column: "tag", text: "tag", width: "w-[10%] max-sm:w-[24%]" },
  { column: "scaling", text: "from the reading to the value", width: "w-[24%] max-sm:hidden" },
  { column: "used", text: "rules", width: "w-[20%] max-sm:w-[28%]" },
];

const kinds = [
  { value: "all", label: "All points" },
  { value: "analog", label: "Analog inputs" },
  { value: "discrete", label: "Contacts" },
  { value: "derived", label: "Derived values" },
  { value: "output", label: "Outputs" },
];

const kindWords: Record<Point["kind"], string> = { analog: "analog", discrete: "contact", derived: "derived", output: "output" };

/** Points: every input and output; one opens to its chain. */
export function Points() {
  const [params, setParams] = useSearchParams();
  const [find, setFind] = useState("");
  const revision = useRevision();
  if (revision.none)
    return (
      <Empty title="No job is here yet">
        Push one from its folder with <Code>rectura push FOLDER</Code>, or make one of a list of points with <Code>rectura iolist import FOLDER LIST.xlsx</Code>.
      </Empty>
    );
  const change = (name: string, value?: string) =>
    setParams((p) => {
      if (value) p.set(name, value);
      else p.delete(name);
      return p;
    });
  const { detail } = revision;
  const open = detail?.points.find((p) => p.name === params.get("point"));
  return (
    <div className="flex flex-col gap-3">
      <div className="flex flex-wrap items-center gap-2.5">
        <h1 className="mr-1 text-xl font-semibold tracking-tight">Points</h1>
        {revision.menu}
        <Pick label="Kind" value={params.get("kind") ?? "all"} onChange={(v) => change("kind", v === "all" ? undefined : v)} choices={kinds} />
        <input className="field w-52" type="search" placeholder="find a name, tag or note" aria-label="Find points" value={find} onChange={(e) => setFind(e.target.value)} />
      </div>
      {revision.error && <Trouble error={revision.error} />}
      {detail && <Table points={detail.points} kind={params.get("kind") ?? "all"} find={find} open={open?.name} onOpen={(name) => change("point", name === open?.name ? undefined : name)} />}
      {detail && open && <Opened key={`${detail.revision.number}/${open.name}`} revision={detail} point={open} onRevision={revision.choose} />}
    </div>
  );
}

function scaling(p: Point): string {
  if (!p.chain.length) return p.unit;
  return p.chain.map((c) => c.unit).join(" → ");
}

function cell(p: Point, column: Column): string {
  switch (column) {
    case "point":
      return p.title;
    case "kind":
      return kindWords[p.kind];
    case "tag":
      return p.tag;
    case "scaling":
      return scaling(p);
    case "used":
      return p.used_by.join(", ");
  }
}

function Table({ points, kind, find, open, onOpen }: { points: Point[]; kind: string; find: string; open?: string; onOpen: (name: string) => void }) {
  const [sort, setSort] = useState<{ column: Column; down: boolean }>();
  const shown = useMemo(() => {
    const words = find.toLowerCase().split(/\s+/).filter(Boolean);
    const some = points.filter((p) => {
      const all = [p.name, p.title, p.tag, p.terminal, ...p.notes].join(" ").toLowerCase();
      return (kind === "all" || p.kind === kind) && words.every((w) => all.includes(w));
    });
    if (!sort) return some;
    const sorted = some.toSorted((a, b) => cell(a, sort.column).localeCompare(cell(b, sort.column), undefined, { numeric: true }));
    return sort.down ? sorted.reverse() : sorted;
  }, [points, kind, find, sort]);
  const by = (column: Column) => setSort((s) => (s?.column !== column ? { column, down: false } : s.down ? undefined : { column, down: true }));
  return (
    <div className={`card overflow-auto ${open ? "max-h-[196px]" : ""}`}>
      <table className="w-full table-fixed text-left" data-testid="points">
        <thead className="sticky top-0 z-10 bg-sheet">
          <tr>
            {heads.map((h) => (
              <th key={h.column} className={`${h.width} border-b border-line px-3 py-1.5 text-xs font-normal text-ink-3`} aria-sort={sort?.column === h.column ? (sort.down ? "descending" : "ascending") : "none"}>
                <button type="button" className="inline-flex items-center gap-1 rounded" onClick={() => by(h.column)}>
                  {h.text}
                  {sort?.column === h.column && (sort.down ? <ArrowDown size={12} aria-hidden="true" /> : <ArrowUp size={12} aria-hidden="true" />)}
                </button>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {shown.map((p) => (
            <tr key={p.name} data-point={p.name} className={`border-t border-line ${p.name === open ? "bg-accent-weak" : "hover:bg-wash"}`}>
              <td className="truncate px-3 py-1.5">
                <button type="button" className="max-w-full truncate rounded text-left" aria-expanded={p.name === open} onClick={() => onOpen(p.name)}>
                  {p.title} <span className="font-mono text-[12.5px] text-ink-3">{p.name}</span>
                </button>
              </td>
              <td className="px-3 text-ink-2 max-sm:hidden">{kindWords[p.kind]}</td>
              <td className="px-3 text-ink-2">{p.tag}</td>
              <td className="truncate px-3 text-ink-2 max-sm:hidden">{scaling(p)}</td>
              <td className="truncate px-3 text-xs text-ink-3" title={p.used_by.join(", ")}>
                {p.used_by.join(", ")}
              </td>
            </tr>
          ))}
          {!shown.length && (
            <tr>
              <td colSpan={heads.length} className="px-3 py-3 text-ink-3">
                No point fits. {find && <>Take a word out of “{find}”.</>}
              </td>
            </tr>
          )}
        </tbody>
      </table>
    </div>
  );
}
