import { expect, test } from "vitest";
import { combinations } from "./Variations";

test("several values stand behind each other, and share the last one's unit", () => {
  expect(combinations({ low: "5, 5.5,6 mg/L", delay: "45 s" })).toEqual([
    { low: "5 mg/L", delay: "45 s" },
    { low: "5.5 mg/L", delay: "45 s" },
    { low: "6 mg/L", delay: "45 s" },
  ]);
  expect(combinations({ low: "5,6", "r.for": "1 min 30 s,2 min" })).toHaveLength(4);
  expect(combinations({ "r.for": "1 min 30 s,2 min" })).toEqual([{ "r.for": "1 min 30 s" }, { "r.for": "2 min" }]);
  expect(combinations({ "r.for": "45,1 min 30 s" })).toEqual([{ "r.for": "45" }, { "r.for": "1 min 30 s" }]);
  expect(combinations({})).toEqual([{}]);
});
