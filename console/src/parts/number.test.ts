import { expect, test } from "vitest";
import { clockText, tickTexts, timeTicks, wholeSeconds } from "../chart/clock";
import { figure, lasting, signed, withUnit } from "./number";

test.each([
  [5.93, "5.93"], [6, "6"], [8.796093, "8.796"], [18012, "18012"], [0, "0"], [-1.2, "-1.2"], [0.00012346, "0.0001235"], [120, "120"],
])("figure(%d) is %s", (value, want) => expect(figure(value)).toBe(want));

test.each([
  [45, "45 s"], [5400, "1 h 30 min"], [0.25, "0.25 s"], [0, "0 s"], [3600, "1 h"], [61.4, "1 min 1 s"],
])("lasting(%d) is %s", (value, want) => expect(lasting(value)).toBe(want));

const night = { elapsed: false, start: 1772402400, offset: 3600, zone: "", twice: false }; // 22:00 UTC, shown one hour east

test("clock times are those of the recording's own zone", () => {
  expect(clockText(night, 0)).toBe("23:00:00");
  expect(clockText(night, 3600.25)).toBe("00:00:00.250");
  expect(clockText({ elapsed: true, start: 5, offset: 0, zone: "", twice: false }, 840)).toBe("+845 s");
});

test("ticks are round on the clock's face and within the window", () => {
  expect(timeTicks(night, 0, 21600, 8).map((t) => clockText(night, t))).toEqual(["23:00:00", "00:00:00", "01:00:00", "02:00:00", "03:00:00", "04:00:00", "05:00:00"]);
  expect(timeTicks(night, 100, 130, 8)).toEqual([100, 105, 110, 115, 120, 125, 130]);
});

test("a zone's clock follows its changes", () => {
  const back = { elapsed: false, start: 1792886400, offset: 3600, zone: "Europe/Dublin", twice: true }; // 25 October 2026, 00:00 UTC
  expect(clockText(back, 0)).toBe("01:00:00+01:00");
  expect(clockText(back, 3600.5)).toBe("01:00:00.500+00:00");
  expect(wholeSeconds(back, 3600.5)).toBe("01:00:00+00:00");
  expect(tickTexts(back, [0, 3600, 7200])).toEqual(["01:00+01:00", "01:00+00:00", "02:00+00:00"]);
});

test.each([
  ["9.4", "mg/L", "9.4 mg/L"], [" 12 mA", "mg/L", "12 mA"], ["12mA ", "mg/L", "12mA"], ["-3", "degC", "-3 degC"], ["40 %", "mg/L", "40 %"],
])("%s in a box of %s is %s", (text, unit, want) => expect(withUnit(text, unit)).toBe(want));

test.each([
  [0.3, "+0.3"], [-0.05, "−0.05"], [0, "0"], [-1e-12, "0"], [1.23456, "+1.23"],
])("a deviation of %d is %s", (value, want) => expect(signed(value, 3)).toBe(want));
