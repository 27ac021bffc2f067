import { useEffect, useRef, type PointerEvent, type RefObject } from "react";
import type { Window } from "./layout";

/** A finger: where it is, in pixels from the left of the plots, and the time that it was put on. */
export interface Finger {
  x: number;
  t: number;
}

const nearest = 8; // pixels between two fingers, at the least

/** The window, within the whole, in which the times that two fingers were put on lie under them again. */
export function pinched(whole: Window, a: Finger, b: Finger, width: number): Window {
  const [left, right] = a.t < b.t ? [a, b] : [b, a];
  const apart = Math.max(right.x - left.x, nearest);
  const span = Math.min(Math.max(((right.t - left.t) * width) / apart, 0.01), whole.to - whole.from);
  const from = Math.min(Math.max(left.t - (left.x / width) * span, whole.from), whole.to - span);
  return { from, to: from + span };
}

const every = 100; // milliseconds between two windows while fingers move

/**
 * Zooming by two fingers. Its handlers go before those of the plots' own and tell whether fingers are at work, so that
 * these do nothing then.
 */
export function usePinch(host: RefObject<HTMLElement | null>, whole: Window, width: number, onView: (w: Window) => void) {
  const fingers = useRef(new Map<number, Finger>());
  const pinching = useRef(false);
  const last = useRef(0);
  useEffect(() => {
    const element = host.current;
    // Two fingers do not scroll the page.
    const hold = (e: TouchEvent) => {
      if (e.touches.length > 1 && pinching.current && e.cancelable) e.preventDefault();
    };
    element?.addEventListener("touchmove", hold, { passive: false });
    return () => element?.removeEventListener("touchmove", hold);
  }, [host]);
  const show = () => {
    const [a, b] = fingers.current.values();
    if (a && b) onView(pinched(whole, a, b, width));
  };
  return {
    /** A finger is put on at a time. */
    down(e: PointerEvent, x: number, t: number): boolean {
      if (e.pointerType !== "touch") return false;
      if (fingers.current.size < 2) fingers.current.set(e.pointerId, { x, t });
      pinching.current ||= fingers.current.size === 2;
      return pinching.current;
    },
    move(e: PointerEvent, x: number): boolean {
      const finger = fingers.current.get(e.pointerId);
      if (!pinching.current || !finger) return pinching.current;
      finger.x = x;
      if (e.timeStamp - last.current >= every) {
        last.current = e.timeStamp;
        show();
      }
      return true;
    },
    up(e: PointerEvent): boolean {
      const was = pinching.current;
      if (was && fingers.current.size === 2) show();
      fingers.current.delete(e.pointerId);
      if (!fingers.current.size) pinching.current = false;
      return was;
    },
  };
}
