import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useRef, useState, type PointerEvent } from "react";
import type { Histogram, Lesson, Point, Recording, RevisionDetail, RulePoint, Series, TimeWindow } from "../api";
import { Canvas } from "../chart/Canvas";
import { useJob } from "../parts/useJob";
import { tickTexts, timeTicks, wholeSeconds } from "../chart/clock";
import { placeOf, value } from "../chart/layout";
import { paintSignal, paintTimes, paintValues, type Colours, type Paper } from "../chart/paint";
import { useWidth } from "../chart/size";
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
  const width = useWidth(host);
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
              <span className="text-ink-3">{windows[w] ? `${wholeSeconds(recording.clock, windows[w].from)} to ${wholeSeconds(recording.clock, windows[w].to)}` : "not drawn"}</span>
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

/** The whole recorded signal, with windows drawn over it, and how often it was where. */
function Plot({ series, recording, histogram, width, windows, next, lesson, onDraw }: { series: Series; recording: Recording; histogram?: Histogram; width: number; windows: Partial<Record<Which, TimeWindow>>; next: Which; lesson?: Lesson; onDraw?: (w: TimeWindow) => void }) {
  const [drag, setDrag] = useState<TimeWindow>();
  const inner = width - left - right;
  const x = (t: number) => left + (t / recording.seconds) * inner;
  const paint = useCallback((g: Paper, c: Colours) => paintStudy(g, c, width, series, recording, histogram, lesson), [width, series, recording, histogram, lesson]);
  const timeAt = (e: PointerEvent<HTMLDivElement>) => (Math.min(Math.max(e.clientX - e.currentTarget.getBoundingClientRect().left - left, 0), inner) / inner) * recording.seconds;
  if (!rangeOf(series, lesson)) return <p className="text-ink-3">The signal has no good reading in this recording.</p>;
  return (
    <div
      className={`relative select-none ${onDraw ? "cursor-crosshair touch-pan-y" : ""}`}
      style={{ width, height: tall }}
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
      <Canvas width={width} height={tall} paint={paint} label="The recorded signal, and how often it was where" />
      {histogram && (
        <span className="pointer-events-none absolute right-0 bottom-0 text-[11px] text-ink-3" data-testid="histogram">
          how often{histogram.bad ? `, ${histogram.bad} bad` : ""}
        </span>
      )}
      {(["normal", "trouble"] as const).map((w) => windows[w] && <Stretch key={w} which={w} x={x} window={windows[w]} />)}
      {drag && <Stretch which={next} x={x} window={{ from: Math.min(drag.from, drag.to), to: Math.max(drag.from, drag.to) }} />}
    </div>
  );
}

/** The values that are drawn, with some room; undefined where there is none. */
function rangeOf(series: Series, lesson?: Lesson): { low: number; high: number; margin: number } | undefined {
  const values = [...series.min, ...series.max].filter((v): v is number => v != null);
  if (!values.length) return undefined;
  if (lesson?.separable) values.push(lesson.trip, lesson.reset);
  const [low, high] = values.reduce(([a, b], v) => [Math.min(a, v), Math.max(b, v)], [Infinity, -Infinity]);
  return { low, high, margin: (high - low || 1) * 0.05 };
}

function paintStudy(g: Paper, c: Colours, width: number, series: Series, recording: Recording, histogram?: Histogram, lesson?: Lesson) {
  const range = rangeOf(series, lesson);
  if (!range) return;
  g.clearRect(0, 0, width, tall);
  const box = { left, top, width: width - left - right, height: tall - top - bottom };
  const window = { from: 0, to: recording.seconds };
  const scale = { low: range.low - range.margin, high: range.high + range.margin };
  const ticks = timeTicks(recording.clock, 0, recording.seconds, Math.max(2, Math.floor(box.width / 90)));
  paintTimes(g, box, c, window, ticks, tickTexts(recording.clock, ticks));
  paintValues(g, box, c, scale, [range.low, (range.low + range.high) / 2, range.high], (v) => figure(v, 3));
  const points = lesson?.separable ? (["trips", "resets"] as const).map((effect) => taught(lesson, effect)) : [];
  paintSignal(g, box, c, { series, ...scale, points, window });
  const y = (v: number) => box.top + placeOf(scale, box.height, v);
  g.save();
  g.font = "10.5px sans-serif";
  g.textAlign = "right";
  g.fillStyle = c.accent;
  for (const p of points) {
    const upper = (p.effect === "trips") === (lesson?.direction === "falling");
    g.fillText(`${p.effect} at ${figure(value(p))}`, box.left + box.width - 4, y(value(p)) + (upper ? 11 : -4));
  }
  g.fillStyle = c.contact;
  const most = Math.max(1, ...(histogram?.counts ?? []));
  for (const [i, n] of (histogram?.counts ?? []).entries()) {
    if (!histogram) break;
    const step = (histogram.high - histogram.low) / histogram.counts.length;
    const upper = y(histogram.low + step * (i + 1));
    g.fillRect(width - right + 12, upper, Math.sqrt(n / most) * (right - 20) || 0, Math.max(1, y(histogram.low + step * i) - upper - 0.5));
  }
  g.restore();
}

/** A point of a lesson, as a rule would have it. */
function taught(lesson: Lesson, effect: "trips" | "resets"): RulePoint {
  return { rule: "lesson", effect, input: lesson.input, op: "<", direction: lesson.direction, stages: [{ value: effect === "trips" ? lesson.trip : lesson.reset, unit: lesson.unit }] };
}

function Stretch({ which, x, window }: { which: Which; x: (t: number) => number; window: TimeWindow }) {
  const at = { left: x(window.from), width: Math.max(1, x(window.to) - x(window.from)), top, height: tall - top - bottom };
  return (
    <div data-window={which} className={`pointer-events-none absolute border-x ${which === "normal" ? "border-accent" : "border-dashed border-critical"}`} style={at}>
      <div className={`h-full opacity-10 ${which === "normal" ? "bg-accent" : "bg-critical"}`} />
      <span className={`absolute -top-4.5 left-1/2 -translate-x-1/2 text-[11px] font-semibold ${which === "normal" ? "text-accent" : "text-critical"}`}>{which}</span>
    </div>
  );
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
            Trip at {q(lesson.trip)} {lesson.direction}, reset at {q(lesson.reset)} (hysteresis {q(lesson.hysteresis)}), on-delay <b>{lasting(lesson.on_delay_seconds)}</b>. The nearer window is <b>{figure(lesson.margin, 2)}</b> noise widths away.{lesson.advice && ` Note: ${lesson.advice}.`}
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
