import { useEffect, useMemo, useRef } from "react";
import uPlot from "uplot";
import type { Panel, RulePoint, Series, Value } from "../api";
import { figure } from "../parts/number";

export const gutter = { left: 142, right: 182 };

export function color(name: string): string {
  return getComputedStyle(document.documentElement).getPropertyValue(name).trim();
}

export const value = (p: RulePoint) => p.stages.at(-1)?.value ?? NaN;

/** One analog signal with the trip and reset lines of the rules that use it, or an analog output, filled. */
export function Signal({ panel, series, from, to, width, height, reading, hover, dark, asked }: { panel: Panel; series?: Series; from: number; to: number; width: number; height: number; reading?: Value | "unread"; hover?: number; dark: boolean; asked?: boolean }) {
  const host = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (!host.current || !series || width < 10) return;
    const [low, high] = [series.min as number[], series.max as number[]];
    const plot = new uPlot(plotOptions(panel, series, from, to, width, height), [series.t, high, high, low], host.current);
    return () => plot.destroy();
    // The colours are read when the plot is made, so another theme needs another plot.
  }, [panel, series, from, to, width, height, dark]);
  return (
    <div className={`relative flex ${asked ? "bg-wash" : ""}`} style={{ height }}>
      <div className="shrink-0 pr-2 text-right leading-tight" style={{ width: gutter.left - 34 }}>
        <div className="truncate text-xs font-semibold" title={panel.title}>
          {panel.input}
        </div>
        {hover !== undefined && series ? <Range panel={panel} series={series} at={hover} /> : <Reading panel={panel} reading={reading} />}
      </div>
      <div className="w-[34px] shrink-0">
        <Ticks panel={panel} height={height} />
      </div>
      <div ref={host} style={{ width, height }} data-input={panel.input} />
      <PointLabels panel={panel} height={height} />
    </div>
  );
}

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

export function valueTicks(low: number, high: number, n: number): number[] {
  if (!(high > low)) return [];
  for (let power = 10 ** Math.floor(Math.log10((high - low) / n)); ; power *= 10)
    for (const m of [1, 2, 5]) {
      const step = m * power;
      const first = Math.ceil(low / step);
      const last = Math.floor(high / step);
      if (last - first + 1 <= n) return Array.from({ length: Math.max(0, last - first + 1) }, (_, k) => (first + k) * step);
    }
}

function Ticks({ panel, height }: { panel: Panel; height: number }) {
  const y = (v: number) => height - ((v - panel.low) / (panel.high - panel.low)) * height;
  return (
    <svg width="34" height={height} aria-hidden="true" className="overflow-visible">
      {valueTicks(panel.low, panel.high, Math.max(2, Math.floor(height / 18))).map((v) => (
        <text key={v} x="29" y={y(v) + 4} textAnchor="end" fontSize="11" fill="var(--ink-3)">
          {figure(v)}
        </text>
      ))}
    </svg>
  );
}

function placeLabels(panel: Panel, height: number) {
  const sorted = [...panel.points].sort((a, b) => value(b) - value(a));
  const gap = Math.min(12, height / Math.max(1, sorted.length));
  const placed: { p: RulePoint; at: number; line: number; off: string }[] = [];
  for (const [i, p] of sorted.entries()) {
    const line = height - ((value(p) - panel.low) / (panel.high - panel.low)) * height;
    const within = Math.min(Math.max(line, 4), height - 4);
    const above = placed.at(-1)?.at ?? -gap;
    const at = Math.min(Math.max(within, above + gap), height - 4 - gap * (sorted.length - 1 - i));
    placed.push({ p, at, line: within, off: value(p) > panel.high ? ", above" : value(p) < panel.low ? ", below" : "" });
  }
  return placed;
}

/** Labels beside the lines, moved apart where they would cover each other. */
function PointLabels({ panel, height }: { panel: Panel; height: number }) {
  const labels = useMemo(() => placeLabels(panel, height), [panel, height]);
  return (
    <svg width={gutter.right} height={height} className="shrink-0 overflow-visible" role="img" aria-label={`Trip and reset points of ${panel.input}`}>
      {labels.map(({ p, at, line, off }) => (
        <g key={p.rule + p.effect + p.op + String(value(p))}>
          <title>{`${p.rule} ${p.effect} ${p.direction ? "at " : ""}${figure(value(p))} ${panel.unit} ${p.direction ?? ""}`.trim()}</title>
          <path d={`M0 ${line}L7 ${at}`} stroke="var(--accent)" strokeWidth=".7" fill="none" />
          <text x="10" y={at + 3.5} fontSize="10.5" fill="var(--accent)">
            {figure(value(p))} {p.effect === "keeps" ? "kept by" : p.direction === "falling" ? "↘" : "↗"} {p.rule}
            {off}
          </text>
        </g>
      ))}
    </svg>
  );
}

/** How a signal is drawn, with its trip and reset lines and where it is bad. */
export function plotOptions(panel: Panel, series: Series, from: number, to: number, width: number, height: number): uPlot.Options {
  const ink = color("--ink");
  const line: uPlot.Series = { stroke: ink, width: 1.2, points: { show: false }, spanGaps: false };
  const area: uPlot.Series = { show: panel.output, width: 0, points: { show: false }, fill: color("--fill"), fillTo: panel.low };
  return {
    width,
    height,
    padding: [0, 0, 0, 0],
    legend: { show: false },
    cursor: { show: false },
    axes: [{ show: false }, { show: false }],
    scales: { x: { time: false, range: [from, to] }, y: { range: [panel.low, panel.high] } },
    series: [{}, area, line, line],
    bands: [{ series: [2, 3], fill: ink }],
    hooks: { drawClear: [(u) => drawPoints(u, panel), (u) => drawBad(u, series)] },
  };
}

const dashes: Record<RulePoint["effect"], number[]> = { trips: [6, 3], resets: [1.5, 3], keeps: [] };

/** Trip lines dashed, reset lines dotted, the band between the two shaded, what a loop keeps a whole line. */
function drawPoints(u: uPlot, panel: Panel) {
  const { ctx } = u;
  const { left, width } = u.bbox;
  const ratio = devicePixelRatio;
  ctx.save();
  ctx.strokeStyle = ctx.fillStyle = color("--accent");
  ctx.lineWidth = ratio;
  for (const p of panel.points) {
    const y = Math.round(u.valToPos(value(p), "y", true)) + 0.5;
    if (value(p) < panel.low || value(p) > panel.high) continue;
    if (p.effect === "trips")
      for (const r of panel.points)
        if (r.rule === p.rule && r.effect === "resets" && value(r) >= panel.low && value(r) <= panel.high) {
          const other = u.valToPos(value(r), "y", true);
          ctx.globalAlpha = 0.08;
          ctx.fillRect(left, Math.min(y, other), width, Math.abs(other - y));
          ctx.globalAlpha = 1;
        }
    ctx.setLineDash(dashes[p.effect].map((d) => d * ratio));
    ctx.beginPath();
    ctx.moveTo(left, y);
    ctx.lineTo(left + width, y);
    ctx.stroke();
  }
  ctx.restore();
}

/** Where the signal is bad: shaded, with a bar below. */
function drawBad(u: uPlot, series: Series) {
  const { ctx } = u;
  const { top, height } = u.bbox;
  const bar = 3 * devicePixelRatio;
  ctx.save();
  ctx.fillStyle = color("--bad");
  const half = series.t.length > 1 ? ((series.t[1] ?? 0) - (series.t[0] ?? 0)) / 2 : 0;
  for (let i = 0; i < series.t.length; i++) {
    if (!series.bad[i]) continue;
    let last = i;
    while (last + 1 < series.t.length && series.bad[last + 1]) last++;
    const a = u.valToPos((series.t[i] ?? 0) - half, "x", true);
    const w = Math.max(u.valToPos((series.t[last] ?? 0) + half, "x", true) - a, devicePixelRatio);
    ctx.globalAlpha = 0.14;
    ctx.fillRect(a, top, w, height);
    ctx.globalAlpha = 1;
    ctx.fillRect(a, top + height - bar, w, bar);
    i = last;
  }
  ctx.restore();
}
