/** The focal point of a picture, moved by hand or keyboard, and what every size shows of it. */

import { useRef, useState, type KeyboardEvent, type PointerEvent } from "react";
import { Link } from "react-router";
import { previewUrl, type PictureDetail } from "../api/client";
import { useMay } from "../api/people";
import { useFormats } from "../api/queries";
import { useCuts, useSetFocus, type Cut } from "../api/shapes";
import { count } from "../look/words";
import { Button, Card, ErrorNote, Shape } from "./ui";

const STEP = 0.02;
const bounded = (value: number) => Math.min(1, Math.max(0, value));

export function CutsCard({ slug, picture }: { slug: string; picture: PictureDetail }) {
  const original = picture.all_files.find((file) => file.role === "original") ?? picture.all_files[0];
  const { shaped } = useFormats();
  const cut = Boolean(original?.width) && shaped(original?.format);
  const cuts = useCuts(picture.id, cut);
  const may = useMay(slug);
  if (!original || !cut) return null;
  if (cuts.isPending)
    return (
      <Card title="Sizes">
        <Shape className="h-48" />
      </Card>
    );
  if (cuts.isError)
    return (
      <Card title="Sizes">
        <ErrorNote error={cuts.error} again={() => void cuts.refetch()} />
      </Card>
    );
  const image = previewUrl(original.id, 480, original.size_now);
  return (
    <Card
      title="Sizes"
      aside={cuts.data.by_hand ? "focal point set by hand" : "focal point found in the picture"}
    >
      <FocalPoint
        key={`${cuts.data.x} ${cuts.data.y}`}
        picture={picture.id}
        image={image}
        x={cuts.data.x}
        y={cuts.data.y}
        mayMove={may("mend")}
        byHand={cuts.data.by_hand}
      />
      {cuts.data.cuts.length === 0 ? (
        <p className="mt-3 text-sm text-quiet">
          No size is made of this picture.{" "}
          {may("treat") && (
            <Link className="text-plum hover:underline" to={`/l/${slug}/treat/sizes`}>
              Define sizes
            </Link>
          )}
        </p>
      ) : (
        <ul className="mt-4 flex flex-wrap gap-3">
          {cuts.data.cuts.map((cut) => (
            <li key={`${cut.name} ${cut.slot}`}>
              <CutShown cut={cut} image={image} />
            </li>
          ))}
        </ul>
      )}
    </Card>
  );
}

function FocalPoint({
  picture,
  image,
  x,
  y,
  mayMove,
  byHand,
}: {
  picture: number;
  image: string;
  x: number;
  y: number;
  mayMove: boolean;
  byHand: boolean;
}) {
  const set = useSetFocus(picture);
  const [at, setAt] = useState({ x, y });
  const frame = useRef<HTMLDivElement>(null);
  const where = (event: PointerEvent) => {
    const box = frame.current!.getBoundingClientRect();
    return {
      x: bounded((event.clientX - box.left) / box.width),
      y: bounded((event.clientY - box.top) / box.height),
    };
  };
  const nudge = (event: KeyboardEvent) => {
    const by = { ArrowLeft: [-STEP, 0], ArrowRight: [STEP, 0], ArrowUp: [0, -STEP], ArrowDown: [0, STEP] }[
      event.key
    ];
    if (event.key === "Enter") set.mutate(at);
    if (!by) return;
    event.preventDefault();
    setAt({ x: bounded(at.x + by[0]!), y: bounded(at.y + by[1]!) });
  };
  return (
    <>
      <div
        ref={frame}
        className="relative w-fit max-w-full touch-none overflow-hidden rounded-[5px] bg-sunken"
        onPointerMove={(event) => mayMove && event.buttons === 1 && setAt(where(event))}
        onPointerDown={(event) => {
          if (mayMove) {
            event.currentTarget.setPointerCapture(event.pointerId);
            setAt(where(event));
          }
        }}
        onPointerUp={(event) => mayMove && set.mutate(where(event))}
      >
        <img src={image} alt="The whole picture" draggable={false} className="block max-h-64 max-w-full" />
        <button
          type="button"
          disabled={!mayMove}
          onKeyDown={nudge}
          aria-label={`Focal point, ${Math.round(at.x * 100)} % from the left, ${Math.round(at.y * 100)} % from the top: move it with the arrow keys, Enter sets it`}
          className="absolute h-7 w-7 -translate-x-1/2 -translate-y-1/2 rounded-full border-2 border-white bg-plum/60 shadow-[0_0_0_2px_rgba(0,0,0,.55)]"
          style={{ left: `${at.x * 100}%`, top: `${at.y * 100}%` }}
        />
      </div>
      {set.isError && (
        <div className="mt-2">
          <ErrorNote error={set.error} />
        </div>
      )}
      {mayMove && (
        <p className="mt-2 flex flex-wrap items-center gap-2 text-xs text-quiet">
          Drag the point, or move it with the arrow keys and press Enter. The next run cuts the sizes around
          it.
          {byHand && (
            <Button look="quiet" busy={set.isPending} onClick={() => set.mutate(null)}>
              Find it again
            </Button>
          )}
        </p>
      )}
    </>
  );
}

/** A part of a picture, drawn as large as its size is in proportion, without asking the service. */
export function CutShown({ cut, image }: { cut: Cut; image: string }) {
  const shape = cut.width / cut.height;
  const [wide, tall] = shape >= 1 ? [112, 112 / shape] : [112 * shape, 112];
  const across = cut.right - cut.left;
  const down = cut.bottom - cut.top;
  return (
    <figure className="w-28">
      <div className="flex h-28 items-end">
        <div
          className="overflow-hidden rounded-[3px] bg-sunken"
          style={{ width: wide, height: Math.max(2, tall) }}
        >
          <img
            src={image}
            alt={`What ${cut.name} shows`}
            className="max-w-none"
            style={{
              width: wide / across,
              height: tall / down,
              marginLeft: -(cut.left * wide) / across,
              marginTop: -(cut.top * tall) / down,
            }}
          />
        </div>
      </div>
      <figcaption className="mt-1 text-xs">
        <span className="block break-all font-semibold">
          {cut.name}
          {cut.slot.endsWith("x") && cut.slot !== "1x" ? ` at ${cut.slot}` : ""}
        </span>
        <span className="text-quiet">
          {count(cut.width)} × {count(cut.height)}
        </span>
      </figcaption>
    </figure>
  );
}
