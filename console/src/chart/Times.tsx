import { memo, useCallback } from "react";
import { Canvas } from "./Canvas";
import { tickTexts, timeTicks, type Clock } from "./clock";
import type { Layout, Window } from "./layout";
import { paintTimes, type Colours, type Paper } from "./paint";

/** How much room the texts of the times take below what they are of. */
export const timesTall = 20;

/** Lines at round times over so many pixels, and below them which they are. */
export const Times = memo(function Times({ clock, window, layout, height }: { clock: Clock; window: Window; layout: Layout; height: number }) {
  const width = layout.left + layout.width + layout.right;
  const paint = useCallback(
    (g: Paper, c: Colours) => {
      g.clearRect(0, 0, width, height + timesTall);
      const ticks = timeTicks(clock, window.from, window.to, Math.max(2, Math.floor(layout.width / 90)));
      paintTimes(g, { left: layout.left, top: 0, width: layout.width, height }, c, window, ticks, tickTexts(clock, ticks));
    },
    [clock, window, layout, height, width],
  );
  return <Canvas width={width} height={height + timesTall} paint={paint} />;
});
