import { expect, test } from "vitest";
import { pinched } from "./pinch";

const whole = { from: 0, to: 1000 };

test("the times under two fingers stay under them", () => {
  const w = pinched(whole, { x: 50, t: 400 }, { x: 250, t: 500 }, 300);
  expect(w.to - w.from).toBeCloseTo(150);
  expect(w.from + (50 / 300) * (w.to - w.from)).toBeCloseTo(400);
  expect(w.from + (250 / 300) * (w.to - w.from)).toBeCloseTo(500);
});

test("it does not matter which finger came first", () => {
  expect(pinched(whole, { x: 250, t: 500 }, { x: 50, t: 400 }, 300)).toEqual(pinched(whole, { x: 50, t: 400 }, { x: 250, t: 500 }, 300));
});

test.each([
  [{ x: 149, t: 400 }, { x: 151, t: 500 }], // fingers all but touch
  [{ x: 200, t: 400 }, { x: 100, t: 500 }], // and have passed each other
  [{ x: 0, t: 10 }, { x: 300, t: 10 }], // on one time
])("the window stays within the whole: %o %o", (a, b) => {
  const w = pinched(whole, a, b, 300);
  expect(w.from).toBeGreaterThanOrEqual(0);
  expect(w.to).toBeLessThanOrEqual(1000);
  expect(w.to).toBeGreaterThan(w.from);
});
