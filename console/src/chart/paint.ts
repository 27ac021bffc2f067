import type { Lane, RulePoint, Series } from "../api";
import { placeOf, value, type Window } from "./layout";

/** What is drawn on: a canvas, in pixels of the page. */
export type Paper = CanvasRenderingContext2D;

const names = ["ink", "ink-2", "ink-3", "line", "line-2", "accent", "critical", "bad", "contact", "wash", "sheet", "fill"] as const;

/** The colours of the theme that is on. */
export type Colours = Record<(typeof names)[number], string>;

export function colours(): Colours {
  const style = getComputedStyle(document.documentElement);
  return Object.fromEntries(names.map((n) => [n, style.getPropertyValue(`--${n}`).trim()])) as Colours;
}

/** Where a drawing stands on its paper. */
export interface Box {
  left: number;
  top: number;
  width: number;
  height: number;
}

/** Where a time stands. */
export const across = (box: Box, { from, to }: Window, t: number) => box.left + ((t - from) / Math.max(to - from, 1e-9)) * box.width;

/** What a signal is drawn with. */
export interface Drawing {
  series: Series;
  low: number;
  high: number;
  points: RulePoint[];
  /** Filled down to the lower end, as an output is. */
  filled?: boolean;
  window: Window;
}

/** Runs what may change the pen, within a box. */
function within(g: Paper, box: Box, draw: () => void) {
  g.save();
  g.beginPath();
  g.rect(box.left, box.top, box.width, box.height);
  g.clip();
  draw();
  g.restore();
}

/** A signal: from largest to smallest at each pixel, so that no spike is lost; a gap where it is bad, which is shaded. */
export function paintSignal(g: Paper, box: Box, c: Colours, d: Drawing, labels?: () => void) {
  const y = (v: number) => box.top + placeOf(d, box.height, v);
  const x = (t: number) => across(box, d.window, t);
  within(g, box, () => {
    paintPoints(g, box, c, d);
    labels?.(); // above the lines, and below the signal
    paintBad(g, box, c, d);
    const { t, min, max } = d.series;
    if (d.filled) {
      g.fillStyle = c.fill;
      runs(d.series, (first, last) => {
        g.beginPath();
        g.moveTo(x(t[first] ?? 0), box.top + box.height);
        for (let i = first; i <= last; i++) g.lineTo(x(t[i] ?? 0), y(max[i] ?? 0));
        g.lineTo(x(t[last] ?? 0), box.top + box.height);
        g.fill();
      });
    }
    g.strokeStyle = c.ink;
    g.lineWidth = 1.2;
    g.lineJoin = "round";
    runs(d.series, (first, last) => {
      g.beginPath();
      for (let i = first; i <= last; i++) {
        const at = x(t[i] ?? 0);
        if (i === first) g.moveTo(at, y(max[i] ?? 0));
        else g.lineTo(at, y(max[i] ?? 0));
        if (min[i] !== max[i]) g.lineTo(at, y(min[i] ?? 0));
      }
      if (first === last) g.lineTo(x(t[first] ?? 0) + 1, y(min[first] ?? 0));
      g.stroke();
    });
  });
}

/** The stretches of a series that have values. */
function runs({ t, min, max }: Series, each: (first: number, last: number) => void) {
  for (let i = 0; i < t.length; i++) {
    if (min[i] == null || max[i] == null) continue;
    const first = i;
    while (i + 1 < t.length && min[i + 1] != null && max[i + 1] != null) i++;
    each(first, i);
  }
}

const dashes: Record<RulePoint["effect"], number[]> = { trips: [6, 3], resets: [1.5, 3], keeps: [] };

/** Trip lines dashed, reset lines dotted, the band between the two shaded, what a loop keeps a whole line. */
function paintPoints(g: Paper, box: Box, c: Colours, d: Drawing) {
  const inside = (p: RulePoint) => value(p) >= d.low && value(p) <= d.high;
  const y = (p: RulePoint) => box.top + placeOf(d, box.height, value(p));
  g.save();
  g.strokeStyle = g.fillStyle = c.accent;
  g.lineWidth = 1;
  for (const p of d.points.filter(inside)) {
    if (p.effect === "trips")
      for (const r of d.points.filter((r) => r.rule === p.rule && r.effect === "resets" && inside(r))) {
        g.globalAlpha = 0.08;
        g.fillRect(box.left, Math.min(y(p), y(r)), box.width, Math.abs(y(p) - y(r)));
        g.globalAlpha = 1;
      }
    const line = Math.round(y(p)) + 0.5;
    g.setLineDash(dashes[p.effect]);
    g.beginPath();
    g.moveTo(box.left, line);
    g.lineTo(box.left + box.width, line);
    g.stroke();
  }
  g.restore();
}

/** Where a signal is bad: shaded, with a bar below. */
function paintBad(g: Paper, box: Box, c: Colours, { series, window }: Drawing) {
  const { t, bad } = series;
  const half = t.length > 1 ? ((t[1] ?? 0) - (t[0] ?? 0)) / 2 : 0;
  g.save();
  g.fillStyle = c.bad;
  for (let i = 0; i < t.length; i++) {
    if (!bad[i]) continue;
    let last = i;
    while (last + 1 < t.length && bad[last + 1]) last++;
    const from = across(box, window, (t[i] ?? 0) - half);
    const width = Math.max(across(box, window, (t[last] ?? 0) + half) - from, 1);
    g.globalAlpha = 0.14;
    g.fillRect(from, box.top, width, box.height);
    g.globalAlpha = 1;
    g.fillRect(from, box.top + box.height - 3, width, 3);
    i = last;
  }
  g.restore();
}

/** Beyond the trip point the rule comes on, beyond the reset point it goes off. */
export function paintZones(g: Paper, box: Box, c: Colours, d: Drawing) {
  within(g, box, () => {
    g.font = "10.5px sans-serif";
    g.textAlign = "right";
    g.fillStyle = c.accent;
    for (const p of d.points) {
      if (p.effect === "keeps") continue;
      const bottom = box.top + box.height;
      const y = Math.min(Math.max(box.top + placeOf(d, box.height, value(p)), box.top), bottom);
      const falling = p.direction === "falling";
      g.globalAlpha = p.effect === "trips" ? 0.09 : 0.03;
      if (falling) g.fillRect(box.left, y, box.width, bottom - y);
      else g.fillRect(box.left, box.top, box.width, y - box.top);
      g.globalAlpha = 1;
      if ((falling ? bottom - y : y - box.top) > 14) g.fillText(p.effect === "trips" ? "on" : "off", box.left + box.width - 4, falling ? y + 12 : y - 4);
    }
  });
}

/** When it would have tripped: a line with a mark on it. */
export function paintTrips(g: Paper, box: Box, c: Colours, window: Window, trips: number[]) {
  g.save();
  g.strokeStyle = g.fillStyle = c.ink;
  g.lineWidth = 1;
  for (const t of trips) {
    const x = Math.round(across(box, window, t)) + 0.5;
    g.globalAlpha = 0.5;
    g.beginPath();
    g.moveTo(x, box.top);
    g.lineTo(x, box.top + box.height);
    g.stroke();
    g.globalAlpha = 1;
    g.beginPath();
    g.moveTo(x - 4, box.top);
    g.lineTo(x + 4, box.top);
    g.lineTo(x, box.top + 7);
    g.fill();
  }
  g.restore();
}

/** The colours of lanes, by what they show. */
const fills: Record<Lane["kind"], keyof Colours> = { input: "contact", rule: "accent", bands: "accent", alarm: "critical", message: "accent", output: "ink", plant: "contact" };

/** A lane: filled for on, hatched for undecided and bad, fine upright lines for what is too short to be told apart. */
export function paintLane(g: Paper, box: Box, c: Colours, lane: Lane, window: Window) {
  g.save();
  g.strokeStyle = c.line;
  g.beginPath();
  g.moveTo(box.left, box.top + box.height + 0.5);
  g.lineTo(box.left + box.width, box.top + box.height + 0.5);
  g.stroke();
  g.restore();
  within(g, box, () => {
    g.font = "10px sans-serif";
    for (const s of lane.spans) {
      if (s.to < window.from || s.from > window.to || s.state === "off" || s.state === "unread") continue;
      const from = across(box, window, s.from);
      const width = Math.max(across(box, window, s.to) - from, lane.kind === "message" ? 2 : 1);
      const bar = { left: Math.max(from, box.left - 8), top: box.top, width: Math.min(from + width, box.left + box.width + 8) - Math.max(from, box.left - 8), height: box.height };
      if (s.state === "undecided") paintHatch(g, bar, c.wash, c["ink-3"]);
      else if (s.state === "bad") paintHatch(g, bar, c.wash, c.bad);
      else if (s.state === "several") paintSeveral(g, bar, c["ink-2"]);
      else {
        g.globalAlpha = s.depth === undefined ? 1 : 0.3 + 0.7 * s.depth;
        g.fillStyle = c[fills[lane.kind]];
        g.fillRect(bar.left, bar.top, bar.width, bar.height);
        g.globalAlpha = 1;
      }
      if (s.label && width > 7 * s.label.length && box.height > 8) {
        g.fillStyle = c.sheet;
        g.fillText(s.label, Math.max(from, box.left) + 4, box.top + box.height - 2.5);
      }
    }
  });
}

/** Slanting lines, for what is undecided or bad. */
function paintHatch(g: Paper, bar: Box, ground: string, lines: string) {
  within(g, bar, () => {
    g.fillStyle = ground;
    g.fillRect(bar.left, bar.top, bar.width, bar.height);
    g.strokeStyle = lines;
    g.lineWidth = 2;
    g.beginPath();
    for (let x = bar.left - bar.height - (bar.left % 6); x < bar.left + bar.width; x += 6) {
      g.moveTo(x, bar.top + bar.height);
      g.lineTo(x + bar.height, bar.top);
    }
    g.stroke();
  });
}

function paintSeveral(g: Paper, bar: Box, lines: string) {
  g.fillStyle = lines;
  for (let x = Math.ceil(bar.left / 3) * 3; x < bar.left + bar.width; x += 3) g.fillRect(x, bar.top, 1.5, bar.height);
}

/** Upright lines at round times, and what they are. */
export function paintTimes(g: Paper, box: Box, c: Colours, window: Window, ticks: number[], texts: string[]) {
  g.save();
  g.font = "11px sans-serif";
  g.textAlign = "center";
  g.fillStyle = c["ink-3"];
  g.strokeStyle = c.line;
  g.setLineDash([1, 3]);
  for (const [i, t] of ticks.entries()) {
    const x = across(box, window, t);
    g.beginPath();
    g.moveTo(x, box.top);
    g.lineTo(x, box.top + box.height);
    g.stroke();
    g.fillText(texts[i] ?? "", x, box.top + box.height + 14);
  }
  g.restore();
}

/** Round values beside a drawing. */
export function paintValues(g: Paper, box: Box, c: Colours, { low, high }: { low: number; high: number }, ticks: number[], text: (v: number) => string) {
  g.save();
  g.font = "10.5px sans-serif";
  g.textAlign = "right";
  g.fillStyle = c["ink-3"];
  for (const v of ticks) g.fillText(text(v), box.left - 5, Math.min(Math.max(box.top + placeOf({ low, high }, box.height, v) + 4, box.top + 8), box.top + box.height));
  g.restore();
}
