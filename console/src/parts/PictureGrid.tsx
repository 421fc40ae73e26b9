/** Pictures as a grid or as rows: only what is on screen is drawn, and what comes next is fetched before it is reached. */

import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useLayoutEffect, useState } from "react";
import { Link } from "react-router";
import { previewUrl, type Picture } from "../api/client";
import { bytes, count, many, points, saved, STATE_WORDS } from "../look/words";
import { Slat } from "./Slat";
import { Shape, Tag } from "./ui";

export type View = "grid" | "rows";

const ROW = 76;
/** A card's width at least, the space between two, and what stands under its picture. */
const CARD = 176;
const GAP = 12;
const UNDER = 78;

interface Shown {
  pictures: Picture[];
  /** The address of one picture. */
  to: (picture: Picture) => string;
  /** What the picture's page is told of the list. */
  from: (picture: Picture) => object;
  chosen: (picture: Picture) => boolean;
  onChoose: (picture: Picture) => void;
}

export function PictureGrid({
  view,
  more,
  onMore,
  ...shown
}: Shown & { view: View; more: boolean; onMore: () => void }) {
  const [list, setList] = useState<HTMLDivElement | null>(null);
  const width = useWidth(list);
  const across = view === "rows" ? 1 : Math.max(2, Math.floor((width + GAP) / (CARD + GAP)));
  const height =
    view === "rows" ? ROW : Math.round(((width - GAP * (across - 1)) / across) * 0.75) + UNDER + GAP;
  const lines = Math.ceil(shown.pictures.length / across);
  const virtual = useWindowVirtualizer({
    count: lines + (more ? 1 : 0),
    estimateSize: () => height,
    overscan: 4,
    scrollMargin: list?.offsetTop ?? 0,
  });
  useLayoutEffect(() => virtual.measure(), [virtual, height]);
  const drawn = virtual.getVirtualItems();
  const last = drawn.at(-1)?.index ?? 0;
  useEffect(() => {
    if (more && last >= lines - 6) onMore();
  }, [last, lines, more, onMore]);
  return (
    <div
      ref={setList}
      role="list"
      className={`relative ${view === "rows" ? "crate" : ""}`}
      style={{ height: virtual.getTotalSize() }}
    >
      {drawn.map(({ index, start, key }) => {
        const line = shown.pictures.slice(index * across, (index + 1) * across);
        const place = {
          height: view === "rows" ? ROW : height - GAP,
          transform: `translateY(${start - virtual.options.scrollMargin}px)`,
        };
        if (line.length === 0) return <Coming key={key} place={place} across={across} />;
        if (view === "rows")
          return (
            <div key={key} role="listitem" className="absolute inset-x-0 border-b border-line" style={place}>
              <Row picture={line[0]!} {...shown} />
            </div>
          );
        return (
          <div key={key} role="presentation" className="absolute inset-x-0 grid" style={grid(place, across)}>
            {line.map((picture) => (
              <Card key={picture.id} picture={picture} {...shown} />
            ))}
          </div>
        );
      })}
    </div>
  );
}

const grid = (place: object, across: number) => ({
  ...place,
  gap: GAP,
  gridTemplateColumns: `repeat(${across}, minmax(0, 1fr))`,
});

function Coming({ place, across }: { place: object; across: number }) {
  return (
    <div aria-hidden className="absolute inset-x-0 grid" style={grid(place, across)}>
      {Array.from({ length: across }, (_, index) => (
        <Shape key={index} className="h-full" />
      ))}
    </div>
  );
}

function useWidth(element: HTMLElement | null): number {
  const [width, setWidth] = useState(0);
  useLayoutEffect(() => {
    if (!element) return;
    setWidth(element.clientWidth);
    const observer = new ResizeObserver(() => setWidth(element.clientWidth));
    observer.observe(element);
    return () => observer.disconnect();
  }, [element]);
  return width;
}

type One = Omit<Shown, "pictures"> & { picture: Picture };

function Card({ picture, to, from, chosen, onChoose }: One) {
  const on = chosen(picture);
  const calm = picture.state === "lighter";
  return (
    <div
      role="listitem"
      className={`crate group relative flex flex-col overflow-hidden ${on ? "ring-2 ring-plum" : ""}`}
    >
      <Link to={to(picture)} state={from(picture)} tabIndex={-1} aria-hidden className="block min-h-0 flex-1">
        <Thumb picture={picture} width={400} className="h-full" />
      </Link>
      <label className="absolute left-0 top-0 flex cursor-pointer p-2">
        <input
          type="checkbox"
          aria-label={`Choose ${picture.name}`}
          className={`h-5 w-5 accent-plum transition-opacity focus-visible:opacity-100 group-hover:opacity-100 [@media(hover:none)]:opacity-100 ${on ? "" : "opacity-0"}`}
          checked={on}
          onChange={() => onChoose(picture)}
        />
      </label>
      {!calm && (
        <span className="absolute right-1.5 top-1.5 rounded-full bg-surface">
          <Tag state={picture.state}>{STATE_WORDS[picture.state]}</Tag>
        </span>
      )}
      <div className="px-2.5 pb-2 pt-1.5" style={{ height: UNDER }}>
        <Link
          to={to(picture)}
          state={from(picture)}
          title={picture.path}
          className="block truncate text-sm font-semibold hover:text-plum hover:underline"
        >
          {picture.name}
        </Link>
        <div className="my-1">
          <Slat
            before={picture.bytes_before}
            now={picture.bytes_now}
            lightest={picture.bytes_lightest}
            format={picture.format ?? undefined}
          />
        </div>
        <div className="flex justify-between text-xs text-quiet">
          <span>{bytes(picture.bytes_now)}</span>
          {picture.worst != null && <span>worst {picture.worst.toFixed(0)}</span>}
          <span className="font-semibold text-leaf">{saved(picture.bytes_before, picture.bytes_now)}</span>
        </div>
      </div>
    </div>
  );
}

function Row({ picture, to, from, chosen, onChoose }: One) {
  const on = chosen(picture);
  return (
    <div
      className={`grid h-full grid-cols-[auto_56px_minmax(0,1fr)_auto] items-center gap-3 px-3 md:grid-cols-[auto_72px_minmax(0,1fr)_10rem_6rem_4rem_4rem] ${on ? "bg-plum-soft" : ""}`}
    >
      <input
        type="checkbox"
        aria-label={`Choose ${picture.name}`}
        className="h-4 w-4 accent-plum"
        checked={on}
        onChange={() => onChoose(picture)}
      />
      <Thumb picture={picture} width={400} className="h-14 rounded" />
      <div className="min-w-0">
        <Link
          to={to(picture)}
          state={from(picture)}
          className="block truncate font-semibold hover:text-plum hover:underline"
          title={picture.path}
        >
          {picture.name}
        </Link>
        <div className="flex items-center gap-2 truncate text-xs text-quiet">
          <Tag state={picture.state}>{STATE_WORDS[picture.state]}</Tag>
          <span className="truncate">
            {picture.folder || "top folder"}, {many(picture.files, "file")}
            {picture.reason
              ? `: ${picture.reason}`
              : picture.width
                ? `, ${count(picture.width)} × ${count(picture.height)}`
                : ""}
          </span>
        </div>
      </div>
      <div className="hidden md:block">
        <Slat
          before={picture.bytes_before}
          now={picture.bytes_now}
          lightest={picture.bytes_lightest}
          format={picture.format ?? undefined}
        />
      </div>
      <span className="text-right text-sm">
        {bytes(picture.bytes_now)}
        <span className="block font-semibold text-leaf md:hidden">
          {saved(picture.bytes_before, picture.bytes_now)}
        </span>
      </span>
      <span className="hidden text-right text-sm font-semibold text-leaf md:block">
        {saved(picture.bytes_before, picture.bytes_now)}
      </span>
      <span
        className="hidden text-right text-sm text-quiet md:block"
        title="lowest SSIMULACRA2 score among its files; below it, what all would score were it like its worst place"
      >
        {points(picture.score)}
        <span className="block text-xs">
          {picture.worst == null ? "" : `worst ${picture.worst.toFixed(0)}`}
        </span>
      </span>
    </div>
  );
}

/** A small picture; where none can be made, that is said. */
export function Thumb({
  picture,
  width,
  className = "",
}: {
  picture: Pick<Picture, "original_id" | "bytes_now" | "state">;
  width: number;
  className?: string;
}) {
  const [broken, setBroken] = useState(false);
  if (broken || picture.state === "unreadable") {
    return (
      <div
        aria-hidden
        className={`flex items-center justify-center bg-sunken text-xs text-quiet ${className}`}
      >
        no preview
      </div>
    );
  }
  return (
    <img
      src={previewUrl(picture.original_id, width, picture.bytes_now)}
      alt=""
      loading="lazy"
      decoding="async"
      onError={() => setBroken(true)}
      className={`w-full bg-sunken object-cover ${className}`}
    />
  );
}
