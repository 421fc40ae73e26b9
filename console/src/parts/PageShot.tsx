/** The page as it was seen, its pictures outlined and numbered; and what is known of the one that is chosen. */

import { useState } from "react";
import { Link } from "react-router";
import { useMay } from "../api/people";
import {
  shotUrl,
  useNeeds,
  useNoteNeed,
  type PagePicture,
  type Reading,
  type Weighing,
} from "../api/weighing";
import { bytes, points } from "../look/words";
import { addressOf } from "../pages";
import { Button, ErrorNote } from "./ui";

const excess = (picture: PagePicture) =>
  picture.needed_width * picture.needed_height > 0
    ? (picture.natural_width * picture.natural_height) / (picture.needed_width * picture.needed_height)
    : 0;
const nameOf = (picture: PagePicture) =>
  picture.path ?? decodeURI(picture.address.replace(/^https?:\/\/[^/]+/, ""));
const toneOf = (picture: PagePicture) =>
  picture.library === null ? "border-slate" : excess(picture) >= 1.7 ? "border-clay" : "border-plum";

export function PageShot({
  slug,
  weighing,
  reading,
  chosen,
  onChoose,
}: {
  slug: string;
  weighing: Weighing;
  reading: Reading;
  chosen: number | null;
  onChoose: (number: number | null) => void;
}) {
  const shot = reading.shots.find(({ part }) => part === "whole") ?? reading.shots[0];
  const [broken, setBroken] = useState(false);
  const shown = reading.pictures.filter((picture) => picture.needed_width > 0);
  return (
    <div className="grid gap-5 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
      <div className="max-h-[44rem] overflow-auto rounded-[5px] border border-line bg-sunken">
        {!shot || broken ? (
          <p className="p-6 text-sm text-quiet">
            {shot
              ? "The picture of the page cannot be shown."
              : "There is no picture of the page: it was weighed without a browser, or long ago."}
          </p>
        ) : (
          <div className="relative">
            <img
              src={shotUrl(slug, shot.id)}
              alt="The page as it was seen"
              className="block w-full"
              width={shot.width}
              height={shot.height}
              onError={() => setBroken(true)}
            />
            {shown.map((picture) => {
              const wide = shot.width / shot.scale,
                high = shot.height / shot.scale;
              if (picture.box.top > high) return null;
              return (
                <button
                  key={picture.number}
                  type="button"
                  aria-label={`Picture ${picture.number}: ${nameOf(picture)}`}
                  aria-pressed={chosen === picture.number}
                  onClick={() => onChoose(chosen === picture.number ? null : picture.number)}
                  className={`absolute border-2 ${toneOf(picture)} ${chosen === picture.number ? "bg-plum/20 outline-2 outline-plum" : "hover:bg-plum/10"}`}
                  style={{
                    left: `${(100 * picture.box.left) / wide}%`,
                    top: `${(100 * picture.box.top) / high}%`,
                    width: `${(100 * picture.box.width) / wide}%`,
                    height: `${(100 * picture.box.height) / high}%`,
                  }}
                >
                  <span
                    className={`absolute left-0 top-0 rounded-br px-1.5 text-xs font-bold ${picture.library !== null && excess(picture) >= 1.7 ? "bg-clay text-on-plum" : picture.library === null ? "bg-slate text-on-plum" : "bg-plum text-on-plum"}`}
                  >
                    {picture.number}
                  </span>
                  {picture.seen && picture.seen.score < 99.9 && (
                    <span
                      aria-hidden
                      title="the worst place"
                      className="absolute h-3 w-3 -translate-x-1/2 -translate-y-1/2 rounded-full border-2 border-clay bg-surface/60"
                      style={{ left: `${100 * picture.seen.left}%`, top: `${100 * picture.seen.top}%` }}
                    />
                  )}
                </button>
              );
            })}
          </div>
        )}
      </div>
      <ol className="max-h-[44rem] space-y-1 overflow-y-auto pr-1 text-sm" aria-label="Pictures of the page">
        {reading.pictures.map((picture) => (
          <PictureLine
            key={picture.number}
            slug={slug}
            weighing={weighing}
            reading={reading}
            picture={picture}
            open={chosen === picture.number}
            onChoose={onChoose}
          />
        ))}
      </ol>
    </div>
  );
}

function PictureLine({
  slug,
  weighing,
  reading,
  picture,
  open,
  onChoose,
}: {
  slug: string;
  weighing: Weighing;
  reading: Reading;
  picture: PagePicture;
  open: boolean;
  onChoose: (number: number | null) => void;
}) {
  const times = excess(picture);
  return (
    <li
      className={`rounded-[5px] border ${open ? "border-plum bg-plum-soft" : "border-transparent hover:border-line"}`}
    >
      <button
        type="button"
        aria-expanded={open}
        className="grid w-full grid-cols-[1.6rem_minmax(0,1fr)_auto] items-baseline gap-2 px-2 py-1.5 text-left"
        onClick={() => onChoose(open ? null : picture.number)}
      >
        <span className="font-bold text-plum">{picture.number}</span>
        <span className="truncate font-mono text-xs" title={nameOf(picture)}>
          {nameOf(picture)}
        </span>
        <span className="tabular-nums text-quiet">
          {picture.format.toUpperCase()} {bytes(picture.bytes)}
          {times >= 1.7 && <span className="ml-2 font-semibold text-clay">{times.toFixed(1)}×</span>}
        </span>
      </button>
      {open && <Facts slug={slug} weighing={weighing} reading={reading} picture={picture} />}
    </li>
  );
}

/** The size that a place needs, as the page of sizes takes it: with a height where the place cuts the picture. */
export function placeOf({ needed_width, needed_height, box }: PagePicture): string {
  const shape = box.height > 0 ? box.width / box.height : 0;
  if (shape === 0 || needed_height === 0 || Math.abs(needed_width / needed_height / shape - 1) <= 0.03)
    return `width=${needed_width}`;
  const width = Math.min(needed_width, needed_height * shape);
  return `width=${Math.round(width)}&height=${Math.round(width / shape)}`;
}

function Facts({
  slug,
  weighing,
  reading,
  picture,
}: {
  slug: string;
  weighing: Weighing;
  reading: Reading;
  picture: PagePicture;
}) {
  const may = useMay(slug);
  const note = useNoteNeed(slug);
  const needs = useNeeds(slug);
  const noted = needs.data?.some(
    (need) =>
      need.picture_id === picture.picture_id &&
      need.width === picture.needed_width &&
      need.height === picture.needed_height,
  );
  const marks = [
    picture.first_view ? "in the first view" : "below the first view",
    picture.lazy && "loaded late",
    picture.largest_paint && "the largest paint",
    !picture.stated && picture.how !== "background" && "its size is not stated",
    picture.preloaded && "preloaded",
  ].filter(Boolean);
  return (
    <div className="space-y-2 px-3 pb-3 pl-10">
      <p>
        {picture.natural_width} × {picture.natural_height} pixels, for a place of{" "}
        {picture.needed_width || "–"} × {picture.needed_height || "–"} ({Math.round(picture.box.width)} ×{" "}
        {Math.round(picture.box.height)} on the page)
      </p>
      <p className="text-quiet">{marks.join(", ")}</p>
      {picture.seen && (
        <p>
          As it is seen here: <strong>{points(picture.seen.score)}</strong> against its original
          {picture.seen.score < 99.9 && <>; its worst place {points(picture.seen.worst)}, marked</>}
        </p>
      )}
      {picture.library === null ? (
        <p className="text-quiet">This picture belongs to no library that is connected here.</p>
      ) : (
        <div className="flex flex-wrap items-center gap-2">
          {picture.picture_id !== null && picture.library === slug && (
            <Link
              className="font-semibold text-plum underline"
              to={addressOf(slug, `review/${picture.picture_id}`)}
            >
              Look at it
            </Link>
          )}
          {picture.picture_id !== null &&
            picture.library === slug &&
            picture.needed_width > 0 &&
            excess(picture) >= 1.7 && (
              <>
                {may("treat") && (
                  <Link
                    className="font-semibold text-plum underline"
                    to={addressOf(slug, `treat/sizes?${placeOf(picture)}`)}
                  >
                    Use what this place needs
                  </Link>
                )}
                {noted || !may("treat") ? (
                  noted && (
                    <span className="text-leaf">Its size is noted as a proposal for a named size.</span>
                  )
                ) : (
                  <Button
                    busy={note.isPending}
                    onClick={() =>
                      note.mutate({ weighing: weighing.id, device: reading.device, number: picture.number })
                    }
                  >
                    Note the size that this place needs
                  </Button>
                )}
              </>
            )}
        </div>
      )}
      {note.isError && <ErrorNote error={note.error} />}
    </div>
  );
}
