import { expect, test } from "vitest";
import type { Panel, RulePoint } from "../api";
import { laneOf, layoutOf, panelTall, placeLabels, rowAt, tallOf, valueTicks } from "./layout";

const point = (v: number) => ({ rule: "r", effect: "trips", input: "x", op: "<", stages: [{ value: v, unit: "mg/L" }] }) as unknown as RulePoint;
const panel = (...values: number[]): Panel => ({ input: "x", output: false, title: "x", unit: "mg/L", low: 0, high: 10, points: values.map(point) }) as Panel;

test("a phone has names above its strips, and the width for the drawing", () => {
  expect(layoutOf(1000)).toEqual({ left: 142, right: 182, width: 676, above: false });
  const phone = layoutOf(360);
  expect(phone.above).toBe(true);
  expect(phone.width).toBeGreaterThan(310);
});

test("what is at a height is found in either layout", () => {
  for (const layout of [layoutOf(1000), layoutOf(360)]) {
    const panels = [panel(), panel(1, 2, 3, 4, 5, 6, 7)];
    const first = panelTall(panel(), layout);
    const second = first + panelTall(panels[1] ?? panel(), layout);
    expect(rowAt(panels, 2, layout, 3)).toEqual({ panel: 0 });
    expect(rowAt(panels, 2, layout, first)).toEqual({ panel: 1 });
    expect(rowAt(panels, 2, layout, second)).toEqual({ lane: 0 });
    expect(rowAt(panels, 2, layout, second + laneOf(layout).height)).toEqual({ lane: 1 });
    expect(rowAt(panels, 2, layout, second + 2 * laneOf(layout).height)).toBeUndefined();
  }
});

test("labels stay inside, in order, and apart", () => {
  const layout = layoutOf(1000);
  const crowded = panel(5, 5, 5.01, 4.99, 20, -3);
  const height = tallOf(crowded, layout);
  const labels = placeLabels(crowded, height);
  expect(labels.map((l) => l.off)).toEqual([", above", "", "", "", "", ", below"]);
  labels.reduce((before, l) => {
    expect(l.at).toBeGreaterThanOrEqual(before.at + 11.99);
    return l;
  });
  expect(labels[0]?.at).toBeGreaterThanOrEqual(0);
  expect(labels.at(-1)?.at).toBeLessThanOrEqual(height - 4);
});

test("ticks are round, within the range, and few", () => {
  expect(valueTicks(0, 10, 5)).toEqual([0, 5, 10]);
  expect(valueTicks(0.12, 0.19, 4).every((v) => v >= 0.12 && v <= 0.19)).toBe(true);
  expect(valueTicks(3, 3, 4)).toEqual([]);
});
