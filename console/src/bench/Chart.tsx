import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState, type KeyboardEvent, type PointerEvent } from "react";
import type { Replay, Series } from "../api";
import { clockText } from "../chart/clock";
import { laneOf, layoutOf, panelTall, rowAt, type Window } from "../chart/layout";
import { Lanes } from "../chart/Lanes";
import { usePinch } from "../chart/pinch";
import { useWidth } from "../chart/size";
import { Strip } from "../chart/Strip";
import { Times, timesTall } from "../chart/Times";
import { useJob } from "../parts/useJob";
import type { Other } from "./Otherwise";

const topMargin = 20; // of pt-5 below

/** The strip chart: signals, lanes, one time axis, one cursor over all. */
export function Chart({
  replay,
  recording,
  other,
  view,
  onView,
  at,
  onAt,
  asked,
  onAsk,
}: {
  replay: Replay;
  recording: number;
  other: Other;
  view: Window;
  onView: (w: Window) => void;
  at?: number;
  onAt: (t: number) => void;
  /** The lane or output that is asked about, by its name. */
  asked?: string;
  onAsk: (name: string, t: number) => void;
}) {
  const job = useJob();
  const host = useRef<HTMLDivElement>(null);
  const wide = useWidth(host);
  const layout = useMemo(() => layoutOf(wide), [wide]);
  const { width, left } = layout;
  const [hover, setHover] = useState<number>();
  const [drag, setDrag] = useState<Window>();
  const pixels = Math.max(1, Math.round(width));
  const played = useMemo(() => ({ set: Object.entries(other.set).map(([name, value]) => `${name}=${value}`), scan: other.scan || undefined }), [other]);
  const series = useQueries({
    queries: replay.panels.map((p) => ({
      queryKey: ["series", replay.revision, recording, p.input, view.from, view.to, pixels, p.output && played],
      queryFn: ({ signal }: { signal: AbortSignal }) => job.getSeries({ revision: replay.revision, recording, point: p.input, from: view.from, to: view.to, pixels, ...(p.output && played) }, signal),
      enabled: width > 10,
      staleTime: Infinity,
      // Until the window's own are there, those of the last one, of the same signal.
      placeholderData: (before: Series | undefined, query?: { queryKey: readonly unknown[] }) => (query?.queryKey[1] === replay.revision && query.queryKey[2] === recording && query.queryKey[3] === p.input ? before : undefined),
    })),
  });
  const { from, to } = view;
  const shown = at !== undefined && at >= from && at <= to ? at : undefined;
  const values = useQuery({
    queryKey: ["values", replay.revision, recording, shown, played],
    queryFn: ({ signal }) => job.getValues({ revision: replay.revision, recording, t: shown ?? 0, ...played }, signal),
    enabled: shown !== undefined,
    placeholderData: keepPreviousData,
    staleTime: Infinity,
  });
  const reading = (input: string) => (shown === undefined || !values.data ? undefined : (values.data.find((v) => v.point === input) ?? ("unread" as const)));
  const x = (t: number) => left + ((t - from) / (to - from)) * width;
  const whole = wholeOf(replay);
  const pinch = usePinch(host, whole, width, onView);
  const pixelAt = (e: PointerEvent<HTMLDivElement>) => Math.min(Math.max(e.clientX - e.currentTarget.getBoundingClientRect().left, 0), width);
  const timeAt = (e: PointerEvent<HTMLDivElement>) => from + (pixelAt(e) / width) * (to - from);
  // What can be asked why, from the top down.
  const answering = [...new Set([...replay.panels.filter((p) => p.output).map((p) => p.input), ...replay.lanes.map((l) => l.name)])];
  const ask = (i: number, t: number) => {
    const name = answering[Math.min(Math.max(i, 0), answering.length - 1)];
    if (name !== undefined) onAsk(name, t);
  };
  const keys = (e: KeyboardEvent) => {
    const step = ((to - from) / width) * (e.shiftKey ? 20 : 1);
    const t = at ?? from;
    if (e.key === "ArrowLeft") onAt(Math.max(whole.from, t - step));
    else if (e.key === "ArrowRight") onAt(Math.min(whole.to, t + step));
    else if (e.key === "+" || e.key === "=") onView(zoom(whole, view, t, 0.5));
    else if (e.key === "-") onView(zoom(whole, view, t, 2));
    else if (e.key === "Home") onView(whole);
    else if (e.key === "ArrowDown") ask(asked === undefined ? 0 : answering.indexOf(asked) + 1, t);
    else if (e.key === "ArrowUp") ask((asked === undefined ? answering.length : answering.indexOf(asked)) - 1, t);
    else return;
    e.preventDefault();
  };
  const tall = replay.panels.reduce((sum, p) => sum + panelTall(p, layout), 0) + replay.lanes.length * laneOf(layout).height;
  const nameAt = (e: PointerEvent<HTMLDivElement>) => {
    const row = rowAt(replay.panels, replay.lanes.length, layout, e.clientY - e.currentTarget.getBoundingClientRect().top - topMargin);
    if (!row) return undefined;
    if ("lane" in row) return replay.lanes[row.lane]?.name;
    const panel = replay.panels[row.panel];
    return panel?.output ? panel.input : undefined;
  };
  return (
    <div ref={host} className="relative pt-5 pb-1" tabIndex={0} role="group" aria-label="Strip chart. Left and right move the cursor, up and down ask an output or a lane why, plus and minus zoom, Home shows all." onKeyDown={keys}>
      {width > 10 && (
        <>
          <div className="pointer-events-none absolute top-5 left-0">
            <Times clock={replay.clock} window={view} layout={layout} height={tall} />
          </div>
          {replay.panels.map((p, i) => (
            <Strip key={p.input} panel={p} series={series[i]?.data} window={view} layout={layout} reading={reading(p.input)} hover={hover} asked={p.output && p.input === asked} />
          ))}
          <Lanes lanes={replay.lanes} window={view} layout={layout} asked={asked} label={`Lanes: ${replay.lanes.map((l) => l.name).join(", ")}`} />
          <div style={{ height: timesTall }} />
          <div
            className="absolute top-0 bottom-6 cursor-crosshair touch-pan-y"
            style={{ left, width }}
            data-testid="plots"
            onPointerDown={(e) => {
              e.currentTarget.setPointerCapture(e.pointerId);
              const t = timeAt(e);
              setDrag(pinch.down(e, pixelAt(e), t) ? undefined : { from: t, to: t });
            }}
            onPointerMove={(e) => {
              if (pinch.move(e, pixelAt(e))) return;
              const t = timeAt(e);
              setHover(t);
              if (drag) setDrag({ ...drag, to: t });
            }}
            onPointerLeave={() => setHover(undefined)}
            onPointerUp={(e) => {
              if (pinch.up(e)) return;
              const name = nameAt(e);
              if (drag && Math.abs(x(drag.to) - x(drag.from)) > 6) onView({ from: Math.min(drag.from, drag.to), to: Math.max(drag.from, drag.to) });
              else if (drag && name !== undefined) onAsk(name, drag.to);
              else if (drag) onAt(drag.to);
              setDrag(undefined);
            }}
            onPointerCancel={(e) => {
              pinch.up(e);
              setDrag(undefined);
            }}
            onDoubleClick={() => onView(whole)}
          >
            {drag && <div className="absolute inset-y-0 bg-accent opacity-15" style={{ left: x(Math.min(drag.from, drag.to)) - left, width: Math.abs(x(drag.to) - x(drag.from)) }} />}
          </div>
          {hover !== undefined && <div className="pointer-events-none absolute top-4 bottom-6 w-px bg-ink-3 opacity-60" style={{ left: x(hover) }} />}
          {shown !== undefined && (
            <div className="pointer-events-none absolute top-0 bottom-6 w-px bg-ink" style={{ left: x(shown) }} data-testid="cursor">
              <span className="absolute top-0 left-0 -translate-x-1/2 rounded bg-ink px-1.5 text-[11px] whitespace-nowrap text-sheet">{clockText(replay.clock, shown).replace(/(\.\d).*/, "$1")}</span>
            </div>
          )}
        </>
      )}
      {[...series, values].map((s) => s.error).filter(Boolean).slice(0, 1).map((error) => (
        <p key="error" role="alert" className="px-3 text-critical">
          ✕ A signal could not be read. {error?.message}
        </p>
      ))}
    </div>
  );
}

export function wholeOf(replay: Replay): Window {
  const spans = replay.lanes[0]?.spans ?? [];
  const from = spans[0]?.from ?? 0;
  return { from, to: Math.max(spans.at(-1)?.to ?? from + replay.seconds, from + 1e-9) };
}

function zoom(whole: Window, view: Window, at: number, by: number): Window {
  const span = Math.min(Math.max((view.to - view.from) * by, 0.01), whole.to - whole.from);
  const from = Math.min(Math.max(at - span / 2, whole.from), whole.to - span);
  return { from, to: from + span };
}
