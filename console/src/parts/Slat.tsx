/**
 * The slat: its outline is what something weighed, its filled part what it weighs now; the hollow is
 * the saving. A notch in the filled part marks what a modern browser fetches.
 */

import { bytes, saved } from "../look/words";

const FORMATS = ["jpeg", "png", "gif", "webp", "avif"];

interface SlatProps {
  before: number;
  now: number;
  lightest?: number | undefined;
  /** The weight that would fill the whole width; by default `before`. */
  scale?: number | undefined;
  format?: string | undefined;
  /** Height: thin under the top bar, middle in lists, tall as a headline. */
  size?: "thin" | "middle" | "tall";
  label?: string;
}

const HEIGHT = { thin: "h-1.5", middle: "h-3.5", tall: "h-9" };

export function Slat({ before, now, lightest, scale, format, size = "middle", label }: SlatProps) {
  const full = Math.max(scale ?? before, 1);
  const outline = before ? Math.max(0.6, (100 * before) / full) : 0;
  const filled = before ? Math.min(100, (100 * now) / before) : 0;
  const notch = before && lightest !== undefined && lightest < now ? (100 * lightest) / before : null;
  const hue = format && FORMATS.includes(format) ? format : format ? "other" : "jpeg";
  return (
    <div
      role="img"
      aria-label={label ?? `${bytes(before)} before, ${bytes(now)} now, ${saved(before, now)}`}
      className={`hollow relative overflow-hidden rounded-[3px] border ${HEIGHT[size]}`}
      style={{ width: `${outline}%`, borderColor: `var(--${hue})` }}
    >
      <div
        className={`h-full transition-[width] duration-500 hatch-${hue}`}
        style={{ width: `${filled}%`, backgroundColor: `var(--${hue})` }}
      />
      {notch !== null && (
        <div className="absolute inset-y-0 w-[2px] bg-surface" style={{ left: `${notch}%` }} aria-hidden />
      )}
    </div>
  );
}
