/** How figures and states are said: decimal bytes, three significant digits, plain words. */

const UNITS = ["B", "kB", "MB", "GB", "TB"];

export function bytes(count: number | null | undefined): string {
  if (count == null) return "–";
  let value = count;
  let unit = 0;
  while (value >= 999.5 && unit < UNITS.length - 1) {
    value /= 1000;
    unit += 1;
  }
  const digits = unit === 0 || value >= 99.95 ? 0 : value >= 9.995 ? 1 : 2;
  return `${value.toFixed(digits)} ${UNITS[unit]}`;
}

/** The saving as a share of what it was: "−34 %". */
export function saved(before: number | null | undefined, now: number | null | undefined): string {
  if (!before || now == null) return "–";
  const share = (100 * (before - now)) / before;
  if (Math.abs(share) < 0.05) return "0 %";
  const sign = share > 0 ? "−" : "+";
  return `${sign}${Math.abs(share).toFixed(Math.abs(share) >= 9.95 ? 0 : 1)} %`;
}

export function count(value: number): string {
  return value.toLocaleString("en-GB");
}

/** "1 picture", "2 pictures". */
export function many(value: number, one: string, more = `${one}s`): string {
  return `${count(value)} ${value === 1 ? one : more}`;
}

export function points(score: number | null | undefined): string {
  return score == null ? "–" : score.toFixed(1);
}

/** Megapixels a second: two digits where there is little. */
export function rate(value: number): string {
  return value.toFixed(value >= 0.95 ? 1 : 2);
}

export function duration(seconds: number | null | undefined): string {
  if (seconds == null) return "–";
  const whole = Math.round(seconds);
  if (whole >= 3600) return `${Math.floor(whole / 3600)} h ${Math.floor((whole % 3600) / 60)} min`;
  if (whole >= 60) return `${Math.floor(whole / 60)} min ${whole % 60} s`;
  return `${whole} s`;
}

export function when(moment: string | null | undefined): string {
  if (!moment) return "–";
  return new Date(moment).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" });
}

export const STATE_WORDS: Record<string, string> = {
  new: "not treated yet",
  lighter: "made lighter",
  kept: "as small as it gets",
  "left-alone": "left alone",
  unreadable: "cannot be read",
  failed: "failed",
  removed: "converted, first file removed",
  gone: "gone",
};

export const LEVELS = {
  exact: { name: "Exact", for: "Pixel for pixel. Line art, product zooms, archives." },
  gallery: { name: "Gallery", for: "No difference even when flicked between. Photography." },
  everyday: { name: "Everyday", for: "No difference side by side. Ordinary sites." },
  lean: { name: "Lean", for: "Hard to notice without the original. Speed above all." },
} as const;

export type LevelName = keyof typeof LEVELS;
