import { memo, useCallback, useMemo } from "react";
import type { Panel, RulePoint, Series, Value } from "../api";
import { figure } from "../parts/number";
import { Canvas } from "./Canvas";
import { placeLabels, strip, tallOf, value, valueTicks, type Label, type Layout, type Window } from "./layout";
import { paintSignal, paintTrips, paintValues, paintZones, type Colours, type Paper } from "./paint";

const labelOf = (p: RulePoint) => `${figure(value(p))} ${p.effect === "keeps" ? "kept by" : p.direction === "falling" ? "↘" : "↗"} ${p.rule}`;

/** One analog signal with the trip and reset lines of the rules that use it, or an analog output, filled. */
export function Strip({ panel, series, window, layout, reading, hover, asked, height, zones, trips }: { panel: Panel; series?: Series; window: Window; layout: Layout; reading?: Value | "unread"; hover?: number; asked?: boolean; height?: number; zones?: boolean; trips?: number[] }) {
  const tall = height ?? tallOf(panel, layout);
  const figures = hover !== undefined && series ? <Range panel={panel} series={series} at={hover} /> : <Reading panel={panel} reading={reading} />;
  return (
    <div className={`relative ${asked ? "bg-wash" : ""}`} style={{ paddingBottom: strip.gap }} data-panel={panel.input}>
      {layout.above && (
        <div className="flex items-baseline gap-2 overflow-hidden leading-none" style={{ height: strip.head, paddingLeft: layout.left }}>
          <span className="truncate text-xs font-semibold" title={panel.title}>
            {panel.input}
          </span>
          {figures}
        </div>
      )}
      <div className="flex" style={{ height: tall }}>
        {!layout.above && (
          <div className="shrink-0 overflow-hidden pr-2 text-right leading-tight" style={{ width: layout.left - 34 }}>
            <div className="truncate text-xs font-semibold" title={panel.title}>
              {panel.input}
            </div>
            {figures}
          </div>
        )}
        <Drawn panel={panel} series={series} window={window} layout={layout} height={tall} zones={zones} trips={trips} />
        {!layout.above && <Beside panel={panel} height={tall} width={layout.right} />}
      </div>
      {series?.t.length === 0 && (
        <p className="absolute inset-x-0 grid place-items-center text-sm text-ink-3" style={{ top: layout.above ? strip.head : 0, height: tall }}>
          {panel.input} is not in this recording.
        </p>
      )}
    </div>
  );
}

const scale = 34;

/** The drawing itself, which the cursor does not have drawn anew. */
const Drawn = memo(function Drawn({ panel, series, window, layout, height, zones, trips }: { panel: Panel; series?: Series; window: Window; layout: Layout; height: number; zones?: boolean; trips?: number[] }) {
  const left = layout.above ? layout.left : scale;
  const labels = useMemo(() => (layout.above && !zones ? placeLabels(panel, height) : []), [panel, height, layout.above, zones]);
  const paint = useCallback(
    (g: Paper, c: Colours) => {
      g.clearRect(0, 0, left + layout.width, height);
      const box = { left, top: 0, width: layout.width, height };
      paintValues(g, box, c, panel, valueTicks(panel.low, panel.high, Math.max(2, Math.floor(height / 24))), (v) => figure(v));
      if (!series) paintInside(g, c, left + layout.width, labels);
      if (!series) return;
      const drawing = { series, low: panel.low, high: panel.high, points: panel.points, filled: panel.output, window };
      if (zones) paintZones(g, box, c, drawing);
      paintSignal(g, box, c, drawing, () => paintInside(g, c, left + layout.width, labels));
      if (trips) paintTrips(g, box, c, window, trips);
    },
    [panel, series, window, layout, height, zones, trips, labels, left],
  );
  return (
    <div className="shrink-0" data-input={series ? panel.input : undefined} style={{ width: left + layout.width, height }}>
      <Canvas width={left + layout.width} height={height} paint={paint} />
    </div>
  );
});

/** Labels of points inside the drawing, with a narrow halo against the lines behind them; the signal goes over both. */
function paintInside(g: Paper, c: Colours, right: number, labels: Label[]) {
  g.save();
  g.font = "10.5px sans-serif";
  g.textAlign = "right";
  g.fillStyle = c.accent;
  g.strokeStyle = c.sheet;
  g.lineWidth = 3;
  g.lineJoin = "round";
  for (const { p, at, off } of labels) {
    g.strokeText(labelOf(p) + off, right - 4, at + 3.5);
    g.fillText(labelOf(p) + off, right - 4, at + 3.5);
  }
  g.restore();
}

/** Labels beside the drawing, with lines to where the points are. */
const Beside = memo(function Beside({ panel, height, width }: { panel: Panel; height: number; width: number }) {
  const labels = useMemo(() => placeLabels(panel, height), [panel, height]);
  return (
    <svg width={width} height={height} className="shrink-0 overflow-visible" role="img" aria-label={`Trip and reset points of ${panel.input}`}>
      {labels.map(({ p, at, line, off }) => (
        <g key={p.rule + p.effect + p.op + String(value(p))}>
          <title>{`${p.rule} ${p.effect} ${p.direction ? "at " : ""}${figure(value(p))} ${panel.unit} ${p.direction ?? ""}`.trim()}</title>
          <path d={`M0 ${line}L7 ${at}`} stroke="var(--accent)" strokeWidth=".7" fill="none" />
          <text x="10" y={at + 3.5} fontSize="10.5" fill="var(--accent)">
            {labelOf(p)}
            {off}
          </text>
        </g>
      ))}
    </svg>
  );
});

/** The value at the cursor; the unit alone where there is none. */
function Reading({ panel, reading }: { panel: Panel; reading?: Value | "unread" }) {
  if (!reading) return <div className="text-xs text-ink-3">{panel.output ? `${panel.unit}, output` : panel.unit}</div>;
  if (reading === "unread") return <div className="text-xs text-ink-3">not read yet</div>;
  if (reading.value === undefined) return <div className="text-xs font-semibold text-bad">bad</div>;
  return (
    <div className="text-xs">
      {figure(reading.value)}
      <span className="unit">{panel.unit}</span>
    </div>
  );
}

/** What the pixel below the pointer covers: one value, or from the smallest to the largest. */
function Range({ panel, series, at }: { panel: Panel; series: Series; at: number }) {
  let i = series.t.findIndex((t) => t > at);
  if (i < 0) i = series.t.length - 1;
  else if (i > 0 && at - (series.t[i - 1] ?? 0) < (series.t[i] ?? 0) - at) i--;
  const [low, high] = [series.min[i], series.max[i]];
  if (low == null || high == null) return <div className="text-xs font-semibold text-bad">{series.t.length ? "bad" : "not read"}</div>;
  const [a, b] = [figure(low, 3), figure(high, 3)];
  return (
    <div className="text-xs text-ink-2">
      {a === b ? a : `${a} to ${b}`}
      <span className="unit">{panel.unit}</span>
    </div>
  );
}
