import { useEffect, useRef } from "react";
import uPlot from "uplot";
import type { Lane, Play, Rule, RulePoint } from "../api";
import { useDark, useWidth } from "../bench/Chart";
import { clockText, tickTexts, timeTicks } from "../bench/clock";
import { fills, Hatch, Several } from "../bench/Lanes";
import { color, plotOptions, value, valueTicks } from "../bench/Signal";
import { figure } from "../parts/number";

const left = 38;
const height = 132;

type PlayedPanel = Play["panels"][number];

/** What a rule has to do with in a recording: its signals, where it is on and off, when it trips. */
export function Picture({ play, rule }: { play: Play; rule: Rule }) {
  const host = useRef<HTMLDivElement>(null);
  const width = useWidth(host) - left - 32;
  const dark = useDark();
  const { from, to } = play;
  const own = play.lanes.find((l) => l.name === rule.name);
  const trips = (own?.spans ?? []).filter((s, i) => s.state === "on" && i > 0).map((s) => s.from);
  const ticks = timeTicks(play.clock, from, to, Math.max(2, Math.floor(width / 90)));
  const texts = tickTexts(play.clock, ticks);
  const x = (t: number) => left + ((t - from) / Math.max(to - from, 1e-9)) * width;
  return (
    <div ref={host} className="px-1.5 pt-2 pb-1" data-testid="picture">
      {width > 40 && (
        <>
          {play.panels.map((p) => (
            <Drawn key={p.panel.input} played={p} play={play} points={rule.points} trips={trips} width={width} dark={dark} />
          ))}
          {play.panels.length === 0 && <p className="px-2 py-3 text-sm text-ink-3">It looks at no analog signal.</p>}
          <svg width={left + width + 20} height={play.lanes.length * 22 + 20} role="img" aria-label={summary(play, own, trips)} className="block">
            <defs>
              <Hatch id="undecided" stroke="var(--ink-3)" />
              <Several />
              <Hatch id="bad" stroke="var(--bad)" />
            </defs>
            {play.lanes.map((l, i) => (
              <g key={l.kind + l.name} transform={`translate(0 ${i * 22})`}>
                <text x={left} y="9" fontSize="10" fill="var(--ink-3)">
                  {l.name}
                  {l.kind === "plant" ? ", as the plant did" : ""}
                </text>
                <line x1={left} x2={left + width} y1="18.5" y2="18.5" stroke="var(--line)" />
                {l.spans
                  .filter((s) => s.state !== "off" && s.state !== "unread")
                  .map((s) => (
                    <rect
                      key={s.from}
                      x={x(s.from)}
                      width={Math.max(x(s.to) - x(s.from), 1)}
                      y="11"
                      height="7.5"
                      fill={s.state === "on" ? fills[l.kind] : `url(#${s.state})`}
                      opacity={s.depth === undefined ? 1 : 0.3 + 0.7 * s.depth}
                    >
                      <title>{`${l.name} ${s.label ?? s.state}`}</title>
                    </rect>
                  ))}
              </g>
            ))}
            {ticks.map((t, i) => (
              <text key={t} x={x(t)} y={play.lanes.length * 22 + 14} textAnchor="middle" fontSize="10.5" fill="var(--ink-3)">
                {texts[i]}
              </text>
            ))}
          </svg>
        </>
      )}
    </div>
  );
}

function summary(play: Play, own: Lane | undefined, trips: number[]): string {
  if (!own) return "When its outputs are on";
  return trips.length ? `${own.name} comes on at ${trips.map((t) => clockText(play.clock, t)).join(", ")}` : `${own.name} does not come on in this recording`;
}

function Drawn({ played, play, points, trips, width, dark }: { played: PlayedPanel; play: Play; points: RulePoint[]; trips: number[]; width: number; dark: boolean }) {
  const host = useRef<HTMLDivElement>(null);
  const { panel, series } = played;
  useEffect(() => {
    if (!host.current) return;
    const own = { ...panel, points: points.filter((p) => p.input === panel.input) };
    const o = plotOptions(own, series, play.from, play.to, width, height);
    o.hooks?.drawClear?.unshift((u) => drawZones(u, own.points));
    o.hooks = { ...o.hooks, draw: [(u) => drawTrips(u, trips)] };
    const [low, high] = [series.min as number[], series.max as number[]];
    const plot = new uPlot(o, [series.t, high, high, low], host.current);
    return () => plot.destroy();
  }, [panel, series, play, points, trips, width, dark]);
  return (
    <div className="pb-1.5" data-panel={panel.input}>
      <p className="text-[11px] text-ink-2" style={{ paddingLeft: left }}>
        {panel.input} <span className="text-ink-3">{panel.unit}</span>
      </p>
      <div className="flex">
        <svg width={left} height={height} aria-hidden="true" className="shrink-0 overflow-visible">
          {valueTicks(panel.low, panel.high, 5).map((v) => (
            <text key={v} x={left - 6} y={height - ((v - panel.low) / (panel.high - panel.low)) * height + 4} textAnchor="end" fontSize="10.5" fill="var(--ink-3)">
              {figure(v)}
            </text>
          ))}
        </svg>
        <div className="relative" style={{ width, height }}>
          <div ref={host} />
          {series.t.length === 0 && <p className="absolute inset-0 grid place-items-center text-sm text-ink-3">{panel.input} is not in this recording.</p>}
        </div>
      </div>
    </div>
  );
}

/** Beyond the trip point the rule comes on, beyond the reset point it goes off. */
function drawZones(u: uPlot, points: RulePoint[]) {
  const { ctx, bbox } = u;
  const ratio = devicePixelRatio;
  ctx.save();
  ctx.font = `${10.5 * ratio}px sans-serif`;
  ctx.textAlign = "right";
  for (const p of points) {
    if (p.effect === "keeps") continue;
    const y = Math.min(Math.max(u.valToPos(value(p), "y", true), bbox.top), bbox.top + bbox.height);
    const falling = p.direction === "falling";
    ctx.fillStyle = color("--accent");
    ctx.globalAlpha = p.effect === "trips" ? 0.09 : 0.03;
    if (falling) ctx.fillRect(bbox.left, y, bbox.width, bbox.top + bbox.height - y);
    else ctx.fillRect(bbox.left, bbox.top, bbox.width, y - bbox.top);
    ctx.globalAlpha = 1;
    const room = falling ? bbox.top + bbox.height - y : y - bbox.top;
    if (room > 14 * ratio) ctx.fillText(p.effect === "trips" ? "on" : "off", bbox.left + bbox.width - 4 * ratio, falling ? y + 12 * ratio : y - 4 * ratio);
  }
  ctx.restore();
}

/** When it would have tripped: a line with a mark on it. */
function drawTrips(u: uPlot, trips: number[]) {
  const { ctx, bbox } = u;
  const ratio = devicePixelRatio;
  ctx.save();
  ctx.strokeStyle = ctx.fillStyle = color("--ink");
  ctx.lineWidth = ratio;
  for (const t of trips) {
    const x = Math.round(u.valToPos(t, "x", true)) + 0.5;
    ctx.globalAlpha = 0.5;
    ctx.beginPath();
    ctx.moveTo(x, bbox.top);
    ctx.lineTo(x, bbox.top + bbox.height);
    ctx.stroke();
    ctx.globalAlpha = 1;
    ctx.beginPath();
    ctx.moveTo(x - 4 * ratio, bbox.top);
    ctx.lineTo(x + 4 * ratio, bbox.top);
    ctx.lineTo(x, bbox.top + 7 * ratio);
    ctx.fill();
  }
  ctx.restore();
}
