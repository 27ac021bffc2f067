import { useEffect, useRef } from "react";
import { colours, type Colours, type Paper } from "./paint";
import { useDark } from "./size";

/** Paper that is painted when what it shows is another: what paint is made of, its size, or the theme. */
export function Canvas({ width, height, paint, label, className }: { width: number; height: number; paint: (g: Paper, c: Colours) => void; label?: string; className?: string }) {
  const paper = useRef<HTMLCanvasElement>(null);
  const dark = useDark();
  useEffect(() => {
    const canvas = paper.current;
    const g = canvas?.getContext("2d");
    if (!canvas || !g) return;
    const ratio = devicePixelRatio;
    canvas.width = Math.round(width * ratio);
    canvas.height = Math.round(height * ratio);
    g.setTransform(ratio, 0, 0, ratio, 0, 0);
    paint(g, colours());
  }, [width, height, paint, dark]);
  return <canvas ref={paper} style={{ width, height }} className={`block ${className ?? ""}`} {...(label ? { role: "img", "aria-label": label } : { "aria-hidden": true })} />;
}
