import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState, type PointerEvent } from "react";
import type { Histogram, Lesson, Point, Recording, RevisionDetail, Series, TimeWindow } from "../api";
import { useJob } from "../parts/useJob";
import { clockText, tickTexts, timeTicks } from "../bench/clock";
import { figure, lasting } from "../parts/number";
import { Pick } from "../parts/Pick";

type Which = "normal" | "trouble";

/** A point's recorded signal with its histogram; teach by dragging over a normal and a trouble window. */
export function Recorded({ revision, point, onRevision }: { revision: RevisionDetail; point: Point; onRevision: (n: number) => void }) {
  const job = useJob();
  const recordings = useQuery({ queryKey: ["recordings"], queryFn: job.listRecordings });
  const [chosen, setChosen] = useState<number>();
  const having = recordings.data?.filter((r) => point.kind === "derived" || r.columns.some((c) => c.name === point.name)) ?? [];
  const recording = having.find((r) => r.id === chosen) ?? having[0];
  if (recordings.data && !recording) return <p className="px-3 py-3 text-ink-3">No recording has a column {point.name}. Bring one in on the Bench page.</p>;
  if (!recording) return null;
  return (
    <div className="px-3 py-3">
      <div className="mb-2 flex flex-wrap items-center gap-2.5">
        <Pick label="Recording" value={String(recording.id)} onChange={(v) => setChosen(Number(v))} choices={having.map((r) => ({ value: String(r.id), label: r.name, note: lasting(r.seconds) }))} />
        {point.kind === "analog" && <small className="text-ink-3">Drag over a stretch in which all was well, then over one of the trouble that is to be caught.</small>}
      </div>
      <Study key={recording.id} revision={revision} point={point} recording={recording} onRevision={onRevision} />
    </div>
  );
}

function Study({ revision, point, recording, onRevision }: { revision: RevisionDetail; point: Point; recording: Recording; onRevision: (n: number) => void }) {
  const job = useJob();
  const number = revision.revision.number;
  const [windows, setWindows] = useState<Partial<Record<Which, TimeWindow>>>({});
  const [next, setNext] = useState<Which>("normal");
  const host = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  useEffect(() => {
    const element = host.current;
    if (!element) return;
    const observer = new ResizeObserver(() => setWidth(Math.floor(element.getBoundingClientRect().width)));
    observer.observe(element);
    return () => observer.disconnect();
  }, []);
  const pixels = Math.max(1, width - left - right);
  const series = useQuery({
    queryKey: ["series", number, recording.id, point.name, 0, recording.seconds, pixels],
    queryFn: ({ signal }) => job.getSeries({ revision: number, recording: recording.id, point: point.name, from: 0, to: recording.seconds, pixels }, signal),
    enabled: width > 100,
    staleTime: Infinity,
  });
  const histogram = useQuery({ queryKey: ["histogram", number, recording.id, point.name], queryFn: ({ signal }) => job.getHistogram({ revision: number, recording: recording.id, point: point.name, bins: 40 }, signal), staleTime: Infinity });
  const { normal, trouble } = windows;
  const lesson = useQuery({
    queryKey: ["lesson", number, recording.id, point.name, normal, trouble],
    queryFn: () => job.teach({ revision: number, recording: recording.id, input: point.name, normal: normal ?? { from: 0, to: 0 }, trouble: trouble ?? { from: 0, to: 0 } }),
    enabled: !!normal && !!trouble,
    staleTime: Infinity,
    retry: false,
  });
  const drawn = (w: TimeWindow) => {
    setWindows({ ...windows, [next]: w });
    setNext(next === "normal" ? "trouble" : "normal");
  };
  const error = series.error ?? histogram.error ?? lesson.error;
  return (
    <>
      {point.kind === "analog" && (
        <div className="mb-2 flex flex-wrap items-center gap-2" role="group" aria-label="The window that dragging draws">
          {(["normal", "trouble"] as const).map((w) => (
            <button key={w} type="button" className={`btn py-0.5 text-xs ${next === w ? "border-accent text-accent" : ""}`} aria-pressed={next === w} onClick={() => setNext(w)}>
              {w === "normal" ? "Normal" : "Trouble"}
              <span className="text-ink-3">{windows[w] ? `${clockText(recording.clock, windows[w].from).replace(/\..*/, "")} to ${clockText(recording.clock, windows[w].to).replace(/\..*/, "")}` : "not drawn"}</span>
            </button>
          ))}
        </div>
      )}
      <div ref={host}>
        {series.data && width > 100 && <Plot series={series.data} recording={recording} histogram={histogram.data} width={width} windows={windows} next={next} lesson={lesson.error ? undefined : lesson.data} onDraw={point.kind === "analog" ? drawn : undefined} />}
      </div>
      {error && (
        <p role="alert" className="mt-2 text-critical">
          ✕ {error.message}
        </p>
      )}
      {lesson.data && !lesson.error && normal && trouble && <Proposal revision={revision} point={point} recording={recording} lesson={lesson.data} normal={normal} trouble={trouble} onRevision={onRevision} />}
    </>
  );
}

const [left, right, top, bottom, tall] = [52, 150, 18, 22, 202];

function Plot({ series, recording, histogram, width, windows, next, lesson, onDraw }: { series: Series; recording: Recording; histogram?: Histogram; width: number; windows: Partial<Record<Which, TimeWindow>>; next: Which; lesson?: Lesson; onDraw?: (w: TimeWindow) => void }) {
  const [drag, setDrag] = useState<TimeWindow>();
  const values = [...series.min, ...series.max].filter((v): v is number => v != null);
  if (lesson?.separable) values.push(lesson.trip, lesson.reset);
  const [low, high] = [Math.min(...values), Math.max(...values)];
  const margin = (high - low || 1) * 0.05;
  const [y0, y1] = [low - margin, high + margin];
  const inner = width - left - right;
  const x = (t: number) => left + (t / recording.seconds) * inner;
  const y = (v: number) => tall - bottom - ((v - y0) / (y1 - y0)) * (tall - top - bottom);
  const timeAt = (e: PointerEvent<SVGSVGElement>) => (Math.min(Math.max(e.clientX - e.currentTarget.getBoundingClientRect().left - left, 0), inner) / inner) * recording.seconds;
  const ticks = timeTicks(recording.clock, 0, recording.seconds, Math.max(2, Math.floor(inner / 90)));
  const texts = tickTexts(recording.clock, ticks);
  const most = Math.max(1, ...(histogram?.counts ?? []));
  if (!values.length) return <p className="text-ink-3">The signal has no good reading in this recording.</p>;
  return (
    <svg
      width={width}
      height={tall}
      className={`select-none ${onDraw ? "cursor-crosshair touch-pan-y" : ""}`}
      role="img"
      aria-label="The recorded signal, and how often it was where"
      data-testid="study"
      onPointerDown={(e) => {
        if (!onDraw) return;
        e.currentTarget.setPointerCapture(e.pointerId);
        const t = timeAt(e);
        setDrag({ from: t, to: t });
      }}
      onPointerMove={(e) => drag && setDrag({ ...drag, to: timeAt(e) })}
      onPointerUp={() => {
        if (drag && Math.abs(x(drag.to) - x(drag.from)) > 4) onDraw?.({ from: Math.min(drag.from, drag.to), to: Math.max(drag.from, drag.to) });
        setDrag(undefined);
      }}
      onPointerCancel={() => setDrag(undefined)}
    >
      {ticks.map((t, i) => (
        <g key={t}>
          <line x1={x(t)} x2={x(t)} y1={top} y2={tall - bottom} stroke="var(--line)" strokeDasharray="1 3" />
          <text x={x(t)} y={tall - 6} textAnchor="middle" fontSize="11" fill="var(--ink-3)">
            {texts[i]}
          </text>
        </g>
      ))}
      {[low, (low + high) / 2, high].map((v) => (
        <text key={v} x={left - 6} y={y(v) + 4} textAnchor="end" fontSize="11" fill="var(--ink-3)">
          {figure(v, 3)}
        </text>
      ))}
      {(["normal", "trouble"] as const).map((w) => windows[w] && <Stretch key={w} which={w} x={x} window={windows[w]} />)}
      {drag && <Stretch which={next} x={x} window={{ from: Math.min(drag.from, drag.to), to: Math.max(drag.from, drag.to) }} />}
      {lesson?.separable && (
        <g>
          <rect x={left} width={inner} y={Math.min(y(lesson.trip), y(lesson.reset))} height={Math.max(1, Math.abs(y(lesson.trip) - y(lesson.reset)))} fill="var(--accent)" opacity=".1" />
          <line x1={left} x2={left + inner} y1={y(lesson.trip)} y2={y(lesson.trip)} stroke="var(--accent)" strokeDasharray="6 3" />
          <line x1={left} x2={left + inner} y1={y(lesson.reset)} y2={y(lesson.reset)} stroke="var(--accent)" strokeDasharray="1.5 3" />
          {(["trip", "reset"] as const).map((which) => (
            <text key={which} x={left + inner - 4} y={y(lesson[which]) + ((which === "trip") === lesson.trip < lesson.reset ? 11 : -4)} textAnchor="end" fontSize="10.5" fill="var(--accent)">
              {which === "trip" ? "trips" : "resets"} at {figure(lesson[which])}
            </text>
          ))}
        </g>
      )}
      <path d={outline(series, x, y)} stroke="var(--ink)" strokeWidth="1.1" fill="none" />
      {series.t.map((t, i) => series.bad[i] && <rect key={t} x={x(t)} width="1.5" y={tall - bottom - 4} height="4" fill="var(--bad)" />)}
      <line x1={left} x2={left + inner} y1={tall - bottom} y2={tall - bottom} stroke="var(--line-2)" />
      {histogram && (
        <g data-testid="histogram">
          <text x={width} y={tall - 6} textAnchor="end" fontSize="11" fill="var(--ink-3)">
            how often{histogram.bad ? `, ${histogram.bad} bad` : ""}
          </text>
          {histogram.counts.map((n, i) => {
            const step = (histogram.high - histogram.low) / histogram.counts.length;
            const upper = y(histogram.low + step * (i + 1));
            return <rect key={i} x={width - right + 12} y={upper} height={Math.max(1, y(histogram.low + step * i) - upper - 0.5)} width={(Math.sqrt(n / most) * (right - 20)) || 0} fill="var(--contact)" />;
          })}
        </g>
      )}
    </svg>
  );
}

function Stretch({ which, x, window }: { which: Which; x: (t: number) => number; window: TimeWindow }) {
  const color = which === "normal" ? "var(--accent)" : "var(--critical)";
  return (
    <g data-window={which}>
      <rect x={x(window.from)} width={Math.max(1, x(window.to) - x(window.from))} y={top} height={tall - top - bottom} fill={color} opacity=".09" />
      <path d={`M${x(window.from)} ${top}V${tall - bottom}M${x(window.to)} ${top}V${tall - bottom}`} stroke={color} strokeDasharray={which === "normal" ? undefined : "3 2"} />
      <text x={(x(window.from) + x(window.to)) / 2} y={top - 5} textAnchor="middle" fontSize="11" fontWeight="600" fill={color}>
        {which}
      </text>
    </g>
  );
}

/** From largest to smallest at each pixel, so that no spike is lost; a gap where the signal is bad. */
function outline(series: Series, x: (t: number) => number, y: (v: number) => number): string {
  let path = "";
  let pen = false;
  series.t.forEach((t, i) => {
    const [a, b] = [series.max[i], series.min[i]];
    if (a == null || b == null) {
      pen = false;
      return;
    }
    path += `${pen ? "L" : "M"}${x(t).toFixed(1)} ${y(a).toFixed(1)}${a === b ? "" : `V${y(b).toFixed(1)}`}`;
    pen = true;
  });
  return path;
}

function Proposal({ revision, point, recording, lesson, normal, trouble, onRevision }: { revision: RevisionDetail; point: Point; recording: Recording; lesson: Lesson; normal: TimeWindow; trouble: TimeWindow; onRevision: (n: number) => void }) {
  const job = useJob();
  const [rule, setRule] = useState("");
  const [output, setOutput] = useState("none");
  const queries = useQueryClient();
  const kept = useMutation({
    mutationFn: () => job.teach({ revision: revision.revision.number, recording: recording.id, input: point.name, normal, trouble, rule, output: output === "none" ? undefined : output }),
    onSuccess: async (l) => {
      await queries.invalidateQueries({ queryKey: ["revisions"] });
      if (l.revision) onRevision(l.revision);
    },
  });
  const q = (v: number) => (
    <>
      <b>{figure(v)}</b>
      <span className="unit">{lesson.unit}</span>
    </>
  );
  return (
    <div className="mt-3 grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-4 border-t border-line pt-3 max-lg:grid-cols-1" data-testid="lesson">
      <div className="flex flex-col gap-1.5">
        <p>
          Normal: {q(lesson.normal.low)} to {q(lesson.normal.high)}, noise {figure(lesson.normal.noise, 2)}. Trouble: {q(lesson.trouble.low)} to {q(lesson.trouble.high)}, noise {figure(lesson.trouble.noise, 2)}.
        </p>
        {lesson.separable ? (
          <p>
            Trip at {q(lesson.trip)} {lesson.direction}, reset at {q(lesson.reset)} (hysteresis {q(lesson.hysteresis)}), on-delay <b>{lasting(lesson.on_delay_seconds)}</b>. The nearer window is <b>{figure(lesson.margin, 2)}</b> noise widths away.
          </p>
        ) : (
          <p>
            <b>The two windows cannot be told apart:</b> {lesson.advice}.
          </p>
        )}
      </div>
      {lesson.separable && (
        <form
          className="flex flex-col gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            kept.mutate();
          }}
        >
          <div className="flex flex-wrap items-center gap-2">
            <input className="field w-44" name="rule" aria-label="Name of the rule" placeholder="name of the rule" value={rule} onChange={(e) => setRule(e.target.value)} autoComplete="off" />
            <Pick label="Output" value={output} onChange={setOutput} choices={[{ value: "none", label: "calls nothing yet" }, ...revision.points.filter((p) => p.kind === "output").map((p) => ({ value: p.name, label: `calls ${p.name}` }))]} />
            <button type="submit" className="btn main" disabled={!rule || kept.isPending}>
              Save as a new revision
            </button>
          </div>
          {kept.error && (
            <p role="alert" className="text-critical">
              ✕ {kept.error.message}
            </p>
          )}
          <pre className="overflow-auto rounded bg-wash px-2 py-1.5 font-mono text-[12px] leading-snug">{lesson.text}</pre>
        </form>
      )}
    </div>
  );
}
