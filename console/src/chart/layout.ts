import type { Panel, RulePoint } from "../api";

/** From when to when something is drawn, in seconds since a recording's start. */
export interface Window {
  from: number;
  to: number;
}

/** Where the parts of a chart stand. Where there is no room beside the strips, names and values stand above each, and trip points inside it. */
export interface Layout {
  /** What stands left and right of the drawing, in pixels. */
  left: number;
  right: number;
  width: number;
  /** Names above each strip. */
  above: boolean;
}

/** Of a chart that shares its window with nothing else. */
export function layoutOf(host: number): Layout {
  const above = host < 620;
  const [left, right] = above ? [36, 6] : [142, 182];
  return { left, right, width: host - left - right, above };
}

/** Of a chart within a card: always the narrow one. */
export function narrow(host: number): Layout {
  const [left, right] = [38, 32];
  return { left, right, width: host - left - right, above: true };
}

export const strip = { height: 64, gap: 8, head: 18 };

/** How tall the drawing of a panel is. */
export function tallOf(panel: Panel, layout: Layout): number {
  return Math.max(layout.above ? strip.height + 12 : strip.height, panel.points.length * 12 + 6);
}

/** How tall a panel is in all. */
export function panelTall(panel: Panel, layout: Layout): number {
  return tallOf(panel, layout) + strip.gap + (layout.above ? strip.head : 0);
}

/** A lane's height, and where in it the bar is. */
export function laneOf(layout: Layout): { height: number; bar: number; thick: number } {
  return layout.above ? { height: 26, bar: 14, thick: 9 } : { height: 20, bar: 5, thick: 11.5 };
}

/** Which panel or lane is at so many pixels below the first one's top. */
export function rowAt(panels: Panel[], lanes: number, layout: Layout, y: number): { panel: number } | { lane: number } | undefined {
  for (const [i, p] of panels.entries()) {
    const height = panelTall(p, layout);
    if (y < height) return { panel: i };
    y -= height;
  }
  const lane = Math.floor(y / laneOf(layout).height);
  return lane >= 0 && lane < lanes ? { lane } : undefined;
}

export const value = (p: RulePoint) => p.stages.at(-1)?.value ?? NaN;

/** Where a value stands in a drawing of a height, from its top. */
export const placeOf = (panel: { low: number; high: number }, height: number, v: number) => height - ((v - panel.low) / (panel.high - panel.low)) * height;

/** Round values within a range, at most n of them. */
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

/** A point's label: where it stands, where its line is, and whether that is off the drawing. */
export interface Label {
  p: RulePoint;
  at: number;
  line: number;
  off: string;
}

/** Labels of points, moved apart where they would cover each other. */
export function placeLabels(panel: Panel, height: number): Label[] {
  const sorted = [...panel.points].sort((a, b) => value(b) - value(a));
  const gap = Math.min(12, height / Math.max(1, sorted.length));
  const placed: Label[] = [];
  for (const [i, p] of sorted.entries()) {
    const within = Math.min(Math.max(placeOf(panel, height, value(p)), 4), height - 4);
    const above = placed.at(-1)?.at ?? -gap;
    const at = Math.min(Math.max(within, above + gap), height - 4 - gap * (sorted.length - 1 - i));
    placed.push({ p, at, line: within, off: value(p) > panel.high ? ", above" : value(p) < panel.low ? ", below" : "" });
  }
  return placed;
}
