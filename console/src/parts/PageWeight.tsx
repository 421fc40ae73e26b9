/** What a page weighs, as a crate of slats by kind; and its figures, beside those of another weighing. */

import type { Point, Reading, Weighing, WhatIf } from "../api/weighing";
import { bytes, count, LEVELS, saved, when } from "../look/words";
import { Slat } from "./Slat";
import { Figure } from "./ui";

export const KINDS: Record<string, { name: string; hue: string }> = {
  pictures: { name: "Pictures", hue: "jpeg" },
  scripts: { name: "Scripts", hue: "gif" },
  styles: { name: "Styles", hue: "png" },
  fonts: { name: "Fonts", hue: "webp" },
  page: { name: "The page itself", hue: "avif" },
  media: { name: "Film and sound", hue: "other" },
  data: { name: "Data", hue: "other" },
  other: { name: "Other", hue: "other" },
};

export const DEVICES = { desktop: "Desktop", phone: "Phone" } as const;
const LINES: Record<string, string> = {
  open: "as fast as it goes",
  home: "a line at home",
  mobile: "a mobile line",
  weak: "a weak mobile line",
};
const PROCESSORS: Record<string, string> = {
  quick: "a quick processor",
  middling: "one half as fast",
  slow: "one a quarter as fast",
};

export const seconds = (value: number | null | undefined) => (value == null ? "–" : `${value.toFixed(2)} s`);

export function titleOf(kind: Weighing["kind"], what_if: WhatIf | Point["what_if"]): string {
  if (kind === "plain") return "From its markup";
  if (kind === "real") return "As it is";
  const by = what_if?.level ? `at ${LEVELS[what_if.level].name.toLowerCase()}` : "by the recipe";
  return `What if: ${by}${what_if?.fit ? ", in fitting sizes" : ""}`;
}

export const profileOf = (reading: Reading) =>
  `${LINES[reading.line]}, ${PROCESSORS[reading.processor]}, ${reading.passes === 1 ? "once" : `median of ${reading.passes}`}`;

const ofKind = (reading: Reading | undefined, name: string) =>
  reading?.kinds.find((kind) => kind.name === name)?.bytes ?? 0;

/** One weighing of a page on one device; `before` is what it is set beside. */
export function Crate({
  weighing,
  reading,
  before,
  scale,
}: {
  weighing: Weighing;
  reading: Reading;
  before?: Reading | undefined;
  scale: number;
}) {
  const names = Object.keys(KINDS).filter((name) => ofKind(reading, name) > 0 || ofKind(before, name) > 0);
  const weight = reading.bytes.median;
  return (
    <div className="min-w-0">
      <h3 className="text-lg">{titleOf(weighing.kind, weighing.what_if)}</h3>
      <p className="text-xs text-quiet">
        {when(weighing.at)}
        {weighing.run_id !== null && `, after run ${weighing.run_id}`}
      </p>
      <div className="mt-3 flex flex-wrap items-baseline gap-x-6 gap-y-2">
        <Figure
          value={bytes(weight)}
          caption={
            before ? (
              <span className={weight <= before.bytes.median ? "text-leaf" : "text-clay"}>
                {saved(before.bytes.median, weight)}
              </span>
            ) : (
              `in ${count(reading.requests.median)} requests`
            )
          }
        />
        <Figure
          value={seconds(reading.lcp?.median)}
          caption={
            before?.lcp && reading.lcp ? (
              <>
                largest paint,{" "}
                <span className={reading.lcp.median <= before.lcp.median ? "text-leaf" : "text-clay"}>
                  {saved(before.lcp.median, reading.lcp.median)}
                </span>
              </>
            ) : (
              "largest paint"
            )
          }
        />
      </div>
      <ul className="mt-4 space-y-2">
        {names.map((name) => {
          const now = ofKind(reading, name);
          const was = before ? Math.max(ofKind(before, name), now) : now;
          return (
            <li key={name}>
              <div className="mb-0.5 flex justify-between gap-3 text-sm">
                <span>{KINDS[name]!.name}</span>
                <span className="tabular-nums text-quiet">{bytes(now)}</span>
              </div>
              <Slat
                before={was}
                now={now}
                scale={scale}
                format={KINDS[name]!.hue}
                label={`${KINDS[name]!.name}: ${bytes(now)}${before ? ` instead of ${bytes(ofKind(before, name))}` : ""}`}
              />
            </li>
          );
        })}
      </ul>
      <dl className="mt-4 grid grid-cols-2 gap-x-4 gap-y-1 text-sm">
        <Fact name="First byte" value={seconds(reading.ttfb?.median)} />
        <Fact name="First paint" value={seconds(reading.fcp?.median)} />
        <Fact name="Loaded" value={seconds(reading.load?.median)} />
        <Fact name="Jumps by" value={reading.cls ? reading.cls.median.toFixed(3) : "–"} />
        <Fact name="Before scrolling" value={bytes(reading.first_bytes.median)} />
        <Fact name="Requests" value={count(reading.requests.median)} />
      </dl>
      {[...reading.notes, ...weighing.notes].map((note) => (
        <p key={note} className="mt-2 text-xs text-quiet">
          {note}
        </p>
      ))}
    </div>
  );
}

function Fact({ name, value }: { name: string; value: string }) {
  return (
    <div className="flex justify-between gap-2">
      <dt className="text-quiet">{name}</dt>
      <dd className="tabular-nums">{value}</dd>
    </div>
  );
}

/** The weight of a page over time on one device: weighings for real as a line, what was predicted as hollow marks. */
export function HistoryPlot({
  points,
  chosen,
  onChoose,
}: {
  points: Point[];
  chosen: number | null;
  onChoose: (weighing: number) => void;
}) {
  const wide = 1100,
    high = 190,
    left = 62,
    bottom = 26,
    top = 10;
  const most = Math.max(...points.map((point) => point.bytes), 1);
  const x = (index: number) =>
    left + (wide - left - 14) * (points.length === 1 ? 0.5 : index / (points.length - 1));
  const y = (value: number) => top + (high - top - bottom) * (1 - value / most);
  const real = points
    .map((point, index) => ({ point, index }))
    .filter(({ point }) => point.kind !== "predicted");
  return (
    <svg
      viewBox={`0 0 ${wide} ${high}`}
      className="w-full min-w-[46rem]"
      role="group"
      aria-label="Weight over time"
    >
      {[0, 0.5, 1].map((share) => (
        <g key={share}>
          <line
            x1={left}
            x2={wide}
            y1={y(most * share)}
            y2={y(most * share)}
            stroke="var(--line)"
            strokeWidth="1"
          />
          <text x={left - 8} y={y(most * share) + 4} textAnchor="end" fontSize="11" fill="var(--quiet)">
            {bytes(most * share)}
          </text>
        </g>
      ))}
      <polyline
        points={real.map(({ point, index }) => `${x(index)},${y(point.bytes)}`).join(" ")}
        fill="none"
        stroke="var(--plum)"
        strokeWidth="2"
      />
      {points.map((point, index) => {
        const label = `${titleOf(point.kind, point.what_if)}, ${when(point.at)}: ${bytes(point.bytes)}${point.lcp == null ? "" : `, largest paint ${seconds(point.lcp)}`}`;
        return (
          <g
            key={`${point.weighing_id}`}
            role="button"
            tabIndex={0}
            aria-label={label}
            aria-pressed={chosen === point.weighing_id}
            onClick={() => onChoose(point.weighing_id)}
            onKeyDown={(event) => (event.key === "Enter" || event.key === " ") && onChoose(point.weighing_id)}
          >
            <title>{label}</title>
            <circle cx={x(index)} cy={y(point.bytes)} r="12" fill="transparent" />
            <circle
              cx={x(index)}
              cy={y(point.bytes)}
              r={chosen === point.weighing_id ? 6.5 : 4.5}
              strokeWidth="2"
              stroke="var(--plum)"
              fill={point.kind === "predicted" ? "var(--surface)" : "var(--plum)"}
              strokeDasharray={point.kind === "predicted" ? "2.5 2" : undefined}
            />
          </g>
        );
      })}
      <text x={left} y={high - 6} fontSize="11" fill="var(--quiet)">
        {points[0] ? when(points[0].at) : ""}
      </text>
      {points.length > 1 && (
        <text x={wide - 2} y={high - 6} fontSize="11" textAnchor="end" fill="var(--quiet)">
          {when(points[points.length - 1]!.at)}
        </text>
      )}
    </svg>
  );
}
