/**
 * Two versions of one picture on a dark, neutral ground: a divider to drag, a key to flick, zoom to
 * single pixels, both sides locked together, and the difference with gain.
 */

import { useCallback, useEffect, useRef, useState, type PointerEvent } from "react";
import type { WorstPlace } from "../api/client";

export interface Side {
  name: string;
  url: string;
  facts: string;
}

interface View {
  scale: number;
  x: number;
  y: number;
}

const LARGEST = 16;
const STEP = 0.02;

interface Props {
  left: Side;
  right: Side;
  /** Pixels of the picture; null where only the sides, once loaded, tell. */
  width: number | null;
  height: number | null;
  /** Where the right side scores worst: the comparison can be opened there. */
  worstPlace?: WorstPlace | null;
  /** Opens there at once. */
  atWorst?: boolean;
}

export function Compare({ left, right, worstPlace, atWorst = false, ...given }: Props) {
  const [natural, setNatural] = useState<[number, number]>([1, 1]);
  const width = given.width ?? natural[0];
  const height = given.height ?? natural[1];
  const ground = useRef<HTMLDivElement>(null);
  const [view, setView] = useState<View | null>(null);
  const [divider, setDivider] = useState(0.5);
  const [mode, setMode] = useState<"divide" | "difference">("divide");
  const [gain, setGain] = useState(8);
  const [flick, setFlick] = useState(false);
  const [loaded, setLoaded] = useState<Record<string, "there" | "broken">>({});
  const [mapped, setMapped] = useState(false);

  const fit = useCallback((): View => {
    const box = ground.current?.getBoundingClientRect();
    if (!box) return { scale: 1, x: 0, y: 0 };
    const scale = Math.min(box.width / width, box.height / height, 1);
    return { scale, x: (box.width - width * scale) / 2, y: (box.height - height * scale) / 2 };
  }, [width, height]);

  const there = useCallback((): View => {
    const box = ground.current?.getBoundingClientRect();
    if (!box || !worstPlace) return fit();
    return {
      scale: 2,
      x: box.width / 2 - worstPlace.left * width * 2,
      y: box.height / 2 - worstPlace.top * height * 2,
    };
  }, [fit, worstPlace, width, height]);

  useEffect(() => {
    setView(atWorst ? there() : fit());
    const onResize = () => setView(fit());
    addEventListener("resize", onResize);
    return () => removeEventListener("resize", onResize);
  }, [fit, there, atWorst]);

  const zoom = useCallback(
    (factor: number, atX?: number, atY?: number) => {
      setView((now) => {
        const box = ground.current?.getBoundingClientRect();
        if (!now || !box) return now;
        const x = atX ?? box.width / 2;
        const y = atY ?? box.height / 2;
        const scale = Math.min(LARGEST, Math.max(fit().scale, now.scale * factor));
        const grown = scale / now.scale;
        if (scale === fit().scale) return fit();
        return { scale, x: x - (x - now.x) * grown, y: y - (y - now.y) * grown };
      });
    },
    [fit],
  );

  const actual = useCallback(() => {
    setView((now) => {
      const box = ground.current?.getBoundingClientRect();
      if (!now || !box) return now;
      return { scale: 1, x: (box.width - width) / 2, y: (box.height - height) / 2 };
    });
  }, [width, height]);

  const onKey = (event: React.KeyboardEvent) => {
    const keys: Record<string, () => void> = {
      ArrowLeft: () => setDivider((now) => Math.max(0, now - STEP)),
      ArrowRight: () => setDivider((now) => Math.min(1, now + STEP)),
      "+": () => zoom(1.5),
      "=": () => zoom(1.5),
      "-": () => zoom(1 / 1.5),
      "0": () => setView(fit()),
      "1": actual,
      d: () => setMode((now) => (now === "divide" ? "difference" : "divide")),
      f: () => setFlick(true),
      w: () => setView(there()),
    };
    const act = keys[event.key];
    if (!act) return;
    event.preventDefault();
    act();
  };

  // React listens passively to wheels, and the page would scroll along.
  useEffect(() => {
    const element = ground.current;
    const onWheel = (event: WheelEvent) => {
      event.preventDefault();
      const box = (event.currentTarget as HTMLElement).getBoundingClientRect();
      zoom(event.deltaY < 0 ? 1.2 : 1 / 1.2, event.clientX - box.left, event.clientY - box.top);
    };
    element?.addEventListener("wheel", onWheel, { passive: false });
    return () => element?.removeEventListener("wheel", onWheel);
  }, [zoom]);

  const pan = useDrag((dx, dy) => setView((now) => now && { ...now, x: now.x + dx, y: now.y + dy }));
  const slide = useDrag((dx) => {
    const box = ground.current?.getBoundingClientRect();
    if (box) setDivider((now) => Math.min(1, Math.max(0, now + dx / box.width)));
  });

  const place = view ?? { scale: 0, x: 0, y: 0 };
  const ready = loaded[left.url] && loaded[right.url];
  const image = {
    position: "absolute" as const,
    left: place.x,
    top: place.y,
    width: width * place.scale,
    height: height * place.scale,
    maxWidth: "none",
    // What shows through is looked at on white, as on most pages.
    backgroundColor: ready && mode === "divide" ? "white" : undefined,
    imageRendering: place.scale >= 2 ? ("pixelated" as const) : ("auto" as const),
  };
  const at = `${(flick ? 1 : divider) * 100}%`;
  const broken = [left, right].find((side) => loaded[side.url] === "broken");
  const mark = (url: string, how: "there" | "broken" = "there") =>
    setLoaded((now) => ({ ...now, [url]: how }));

  return (
    <figure className="overflow-hidden rounded-md border border-line bg-[#161416]">
      {/* eslint-disable jsx-a11y/no-noninteractive-element-interactions, jsx-a11y/no-noninteractive-tabindex --
          a divider moved by keys and pointer, for which ARIA has no role */}
      <div
        ref={ground}
        role="group"
        tabIndex={0}
        aria-label={`Comparison: ${left.name} on the left, ${right.name} on the right. Arrow keys move the divider, F held flicks, D shows the difference, plus and minus zoom, 0 fits, 1 is actual size, W goes to the worst place.`}
        onKeyDown={onKey}
        onKeyUp={(event) => event.key === "f" && setFlick(false)}
        onBlur={() => setFlick(false)}
        {...pan}
        className="relative h-[min(62vh,44rem)] touch-none cursor-grab select-none overflow-hidden active:cursor-grabbing"
      >
        {!ready && !broken && (
          <p className="absolute inset-0 z-10 flex items-center justify-center text-sm text-[#b9b2b8]">
            Fetching both versions …
          </p>
        )}
        {broken && (
          <p
            role="alert"
            className="absolute inset-x-0 top-0 z-20 bg-[#42261a] px-4 py-2 text-sm text-[#e59a70]"
          >
            {broken.name} could not be fetched: its file is not there, or the library is away. Look at the
            machine’s check, then open this page again.
          </p>
        )}
        {mapped && worstPlace && <LossMap worstPlace={worstPlace} style={image} />}
        <div
          className="absolute inset-0"
          style={mode === "difference" ? { filter: `brightness(${gain})` } : undefined}
        >
          <img
            src={right.url}
            alt={right.name}
            style={image}
            draggable={false}
            onLoad={(event) => {
              setNatural([event.currentTarget.naturalWidth, event.currentTarget.naturalHeight]);
              mark(right.url);
            }}
            onError={() => mark(right.url, "broken")}
          />
          <div
            className="absolute inset-0"
            style={
              mode === "difference"
                ? { mixBlendMode: "difference" }
                : { clipPath: `inset(0 calc(100% - ${at}) 0 0)` }
            }
          >
            <img
              src={left.url}
              alt={left.name}
              style={image}
              draggable={false}
              onLoad={() => mark(left.url)}
              onError={() => mark(left.url, "broken")}
            />
          </div>
        </div>
        {mode === "divide" && !flick && (
          <div
            {...slide}
            role="slider"
            aria-label="Divider"
            aria-valuenow={Math.round(divider * 100)}
            aria-valuemin={0}
            aria-valuemax={100}
            className="absolute inset-y-0 z-10 -ml-4 w-8 cursor-ew-resize touch-none"
            style={{ left: at }}
          >
            <div className="mx-auto h-full w-[2px] bg-white/85 ring-1 ring-black/35" />
            <div className="absolute left-1/2 top-1/2 flex h-10 w-6 -translate-x-1/2 -translate-y-1/2 items-center justify-center gap-[3px] rounded border-2 border-white/90 bg-black/60">
              <span className="h-4 w-px bg-white/80" />
              <span className="h-4 w-px bg-white/80" />
            </div>
          </div>
        )}
      </div>
      <figcaption className="grid gap-x-4 gap-y-2 border-t border-black bg-[#221f22] px-4 py-2.5 text-sm text-[#e6dfe4] md:grid-cols-[1fr_auto_1fr]">
        <span>
          <b>{left.name}</b> {left.facts}
        </span>
        <span className="flex flex-wrap items-center justify-center gap-1.5">
          <Tool on={false} onClick={() => setView(fit())}>
            Fit
          </Tool>
          <Tool on={place.scale === 1} onClick={actual}>
            1:1
          </Tool>
          <Tool on={false} onClick={() => zoom(1 / 1.5)} label="Zoom out">
            −
          </Tool>
          <span className="w-12 text-center tabular-nums">{Math.round(place.scale * 100)} %</span>
          <Tool on={false} onClick={() => zoom(1.5)} label="Zoom in">
            +
          </Tool>
          {worstPlace && (
            <Tool
              on={false}
              onClick={() => setView(there())}
              label={`Worst place, ${worstPlace.score.toFixed(0)}`}
            >
              Worst place
            </Tool>
          )}
          {worstPlace && (
            <Tool on={mapped} onClick={() => setMapped(!mapped)} label="Map of where the score was lost">
              Map
            </Tool>
          )}
          <Tool
            on={mode === "difference"}
            onClick={() => setMode(mode === "divide" ? "difference" : "divide")}
          >
            Difference
          </Tool>
          {mode === "difference" && (
            <label className="flex items-center gap-1">
              ×{" "}
              <input
                type="range"
                min={1}
                max={32}
                value={gain}
                aria-label="Gain of the difference"
                onChange={(event) => setGain(Number(event.target.value))}
                className="w-20 accent-[#c88ab6]"
              />{" "}
              {gain}
            </label>
          )}
        </span>
        <span className="md:text-right">
          <b>{right.name}</b> {right.facts}
        </span>
      </figcaption>
    </figure>
  );
}

/** Where the score was lost: the more, the stronger the colour of the part. */
export function LossMap({ worstPlace, style }: { worstPlace: WorstPlace; style: React.CSSProperties }) {
  const lost = worstPlace.lost.match(/../g)?.map((digits) => parseInt(digits, 16)) ?? [];
  const most = Math.max(...lost, 1);
  return (
    <div
      role="img"
      aria-label={`The score was lost most at ${Math.round(worstPlace.left * 100)} % from the left and ${Math.round(worstPlace.top * 100)} % from the top`}
      className="pointer-events-none z-10 grid"
      style={{ ...style, gridTemplateColumns: `repeat(${worstPlace.columns}, 1fr)` }}
    >
      {lost.map((points, place) => (
        <span
          key={place}
          data-lost={points}
          style={{ background: `rgb(229 90 60 / ${(0.65 * (points / most) ** 2).toFixed(3)})` }}
        />
      ))}
    </div>
  );
}

function Tool({
  on,
  onClick,
  label,
  children,
}: {
  on: boolean;
  onClick: () => void;
  label?: string;
  children: string;
}) {
  return (
    <button
      type="button"
      aria-label={label}
      aria-pressed={on}
      onClick={onClick}
      className={`min-w-8 rounded border px-2 py-0.5 ${on ? "border-[#c88ab6] text-[#c88ab6]" : "border-[#5a525a] hover:border-[#c88ab6]"}`}
    >
      {children}
    </button>
  );
}

/** Pointer handlers that report movement while a button or finger is down. */
function useDrag(onMove: (dx: number, dy: number) => void) {
  const last = useRef<{ x: number; y: number } | null>(null);
  return {
    onPointerDown: (event: PointerEvent<HTMLElement>) => {
      event.stopPropagation();
      event.currentTarget.setPointerCapture(event.pointerId);
      last.current = { x: event.clientX, y: event.clientY };
    },
    onPointerMove: (event: PointerEvent<HTMLElement>) => {
      if (!last.current) return;
      onMove(event.clientX - last.current.x, event.clientY - last.current.y);
      last.current = { x: event.clientX, y: event.clientY };
    },
    onPointerUp: () => {
      last.current = null;
    },
    onPointerCancel: () => {
      last.current = null;
    },
  };
}
