/**
 * The slat in two dimensions: the heaviest pictures of a library, each as large as it weighed, and covered as far
 * as it has become lighter.
 */

import { useEffect, useState } from "react";
import { Link } from "react-router";
import { previewUrl, type Library, type Picture } from "../api/client";
import { useFewPictures } from "../api/queries";
import { mosaic, type Tile } from "../look/mosaic";
import { bytes, many, saved } from "../look/words";
import { Card, ErrorNote, Shape } from "./ui";

const SHOWN = 24;
const HEAVIEST = { sort: "size", limit: SHOWN + 8, previews: true };

export function MosaicCard({ library }: { library: Library }) {
  const found = useFewPictures(library.slug, HEAVIEST);
  const wide = useWide();
  const pictures = (found.data?.rows ?? [])
    .filter((picture) => picture.bytes_before > 0)
    .sort((a, b) => b.bytes_before - a.bytes_before)
    .slice(0, SHOWN);
  const shown = pictures.reduce((sum, one) => sum + one.bytes_before, 0);
  const rest = Math.max(0, library.bytes_before - shown);
  const others = library.pictures - pictures.length;
  // However much the others weigh together, they do not crowd out those that are shown.
  const weights = pictures.map((one) => one.bytes_before);
  if (rest > 0 && others > 0) weights.push(Math.min(rest, shown * 0.12));
  const tiles = mosaic(weights, wide ? 3 : 1.5);
  const ofOthers = tiles[pictures.length];
  return (
    <Card
      className="lg:col-span-3"
      title="The heaviest pictures"
      aside="as large as they weighed; covered: what they lost"
    >
      {found.isError && <ErrorNote error={found.error} again={() => void found.refetch()} />}
      {found.isPending ? (
        <Shape className="aspect-[3/2] sm:aspect-[3/1]" />
      ) : (
        <ul className="relative aspect-[3/2] overflow-hidden rounded-[4px] sm:aspect-[3/1]">
          {pictures.map((picture, index) => (
            <OfPicture key={picture.id} library={library} picture={picture} tile={tiles[index]!} />
          ))}
          {ofOthers && (
            <li className="absolute p-px" style={place(ofOthers)}>
              <Link
                to={`/l/${library.slug}/review?sort=size`}
                className="hollow flex h-full flex-col items-center justify-center overflow-hidden rounded-[3px] border border-kraft p-1 text-center text-xs leading-tight hover:text-plum sm:text-sm"
              >
                <span className="rounded bg-surface px-2 py-1">
                  <span className="font-semibold">{many(others, "lighter picture")}</span>
                  <span className="block text-quiet">{bytes(rest)} before</span>
                </span>
              </Link>
            </li>
          )}
        </ul>
      )}
    </Card>
  );
}

/** Whether the screen is as wide as where the mosaic is three times as wide as high. */
function useWide(): boolean {
  const [wide, setWide] = useState(() => matchMedia(WIDE).matches);
  useEffect(() => {
    const query = matchMedia(WIDE);
    const onChange = () => setWide(query.matches);
    query.addEventListener("change", onChange);
    return () => query.removeEventListener("change", onChange);
  }, []);
  return wide;
}
const WIDE = "(min-width: 40rem)";

const percent = (part: number) => `${(100 * part).toFixed(3)}%`;
const place = ({ left, top, width, height }: Tile) => ({
  left: percent(left),
  top: percent(top),
  width: percent(width),
  height: percent(height),
});

function OfPicture({ library, picture, tile }: { library: Library; picture: Picture; tile: Tile }) {
  const [broken, setBroken] = useState(false);
  const lost = Math.max(0, 1 - picture.bytes_now / picture.bytes_before);
  const large = tile.width > 0.1 && tile.height > 0.2;
  const says = `${picture.name}: ${bytes(picture.bytes_before)}${lost > 0 ? ` became ${bytes(picture.bytes_now)}, ${saved(picture.bytes_before, picture.bytes_now)}` : ", not made lighter"}`;
  return (
    <li className="absolute p-px" style={place(tile)}>
      <Link
        to={`/l/${library.slug}/review/${picture.id}`}
        title={says}
        aria-label={says}
        className="group relative block h-full overflow-hidden rounded-[3px] bg-sunken"
      >
        {!broken && (
          <img
            src={previewUrl(picture.original_id, 400, picture.bytes_now)}
            alt=""
            decoding="async"
            onError={() => setBroken(true)}
            className="h-full w-full object-cover"
          />
        )}
        <span
          className="lost absolute inset-y-0 right-0 border-l-2 border-plum transition-opacity group-hover:opacity-0 group-focus-visible:opacity-0"
          style={{ width: percent(lost) }}
        />
        {large && (
          <span className="absolute bottom-1 left-1 max-w-[calc(100%-0.5rem)] truncate rounded bg-black/65 px-1.5 text-xs text-white">
            {bytes(picture.bytes_now)}
          </span>
        )}
      </Link>
    </li>
  );
}
