import { useEffect, useLayoutEffect, useState, type RefObject } from "react";

/** The width of an element, as it changes. */
export function useWidth(host: RefObject<HTMLElement | null>): number {
  const [width, setWidth] = useState(0);
  useLayoutEffect(() => {
    const element = host.current;
    if (!element) return;
    const observer = new ResizeObserver(() => setWidth(Math.floor(element.getBoundingClientRect().width)));
    observer.observe(element);
    return () => observer.disconnect();
  }, [host]);
  return width;
}

/** Whether the dark theme is on; what is drawn must be drawn anew when it changes. */
export function useDark(): boolean {
  const [dark, setDark] = useState(() => document.documentElement.classList.contains("dark"));
  useEffect(() => {
    const observer = new MutationObserver(() => setDark(document.documentElement.classList.contains("dark")));
    observer.observe(document.documentElement, { attributeFilter: ["class"] });
    return () => observer.disconnect();
  }, []);
  return dark;
}
