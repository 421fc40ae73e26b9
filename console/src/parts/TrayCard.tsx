/** A tray of pictures of the library, chosen to differ, and made anew as the recipe's settings change. */

import { Link } from "react-router";
import type { Library, Picture, RecipeSettings } from "../api/client";
import { useFewPictures, useTrial } from "../api/queries";
import { useAtRest } from "../look/rest";
import { TRIED } from "./LevelsCard";
import { TrialView } from "./TrialView";
import { Card, ErrorNote } from "./ui";

/** So many of each list are looked at for one that can be shown. */
const FEW = 12;
const HEAVIEST = { sort: "size", limit: FEW };
const WORST = { sort: "worst", limit: FEW };
const DRAWING = { sort: "size", format: ["png"], limit: FEW };
const MOST_SAVED = { sort: "saved", limit: FEW };

/** Until settings are at rest, in milliseconds. */
const REST = 500;

interface OnTray {
  what: string;
  picture: Picture;
}

/** The first of each list that can be shown and is not on the tray yet. */
export function chosen(lists: { what: string; pictures: Picture[] }[]): OnTray[] {
  const tray: OnTray[] = [];
  for (const { what, pictures } of lists) {
    const picture = pictures.find(
      (one) =>
        one.width > 0 && one.state !== "unreadable" && !tray.some((other) => other.picture.id === one.id),
    );
    if (picture) tray.push({ what, picture });
  }
  return tray;
}

export function TrayCard({ library, settings }: { library: Library; settings: RecipeSettings }) {
  const lists = [
    { what: "the heaviest", list: useFewPictures(library.slug, HEAVIEST) },
    { what: "the worst place", list: useFewPictures(library.slug, WORST) },
    { what: "a PNG", list: useFewPictures(library.slug, DRAWING) },
    { what: "most saved", list: useFewPictures(library.slug, MOST_SAVED) },
  ];
  const atRest = useAtRest(settings, REST);
  const tray = chosen(lists.map(({ what, list }) => ({ what, pictures: list.data?.rows ?? [] })));
  if (lists.some(({ list }) => list.isPending) || tray.length === 0) return null;
  return (
    <Card title="On your own pictures" aside="the middle of each, made anew as you change settings">
      <div className="grid gap-x-4 gap-y-5 sm:grid-cols-2">
        {tray.map(({ what, picture }) => (
          <Tried key={picture.id} library={library} what={what} picture={picture} settings={atRest} />
        ))}
      </div>
    </Card>
  );
}

function Tried({
  library,
  what,
  picture,
  settings,
}: OnTray & { library: Library; settings: RecipeSettings }) {
  const trial = useTrial(picture.id, { settings, pixels: TRIED });
  return (
    <section aria-label={picture.name} className="min-w-0">
      <p className="mb-1 flex justify-between gap-2 text-xs">
        <Link
          to={`/l/${library.slug}/review/${picture.id}`}
          className="min-w-0 truncate font-semibold text-plum hover:underline"
        >
          {picture.name}
        </Link>
        <span className="whitespace-nowrap text-quiet">{what}</span>
      </p>
      {trial.isError ? (
        <ErrorNote error={trial.error} />
      ) : (
        <>
          <TrialView trial={trial.data} busy={trial.isFetching} className="h-40" />
          {trial.data && trial.data.because !== "the recipe decides" && (
            <p className="text-xs text-quiet">{trial.data.because}</p>
          )}
        </>
      )}
    </section>
  );
}
