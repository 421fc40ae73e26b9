/** Touching one picture up: a list of steps, each undoable, seen at once, applied to the original by the next run. */

import { ArrowDown, ArrowUp, RotateCcw, RotateCw, Trash2, Undo2 } from "lucide-react";
import { useEffect, useRef, useState, type PointerEvent } from "react";
import { Link, useNavigate, useParams } from "react-router";
import type { Library } from "../api/client";
import { usePicture, useStartRun } from "../api/queries";
import { useTouches, useTouchUp, useView, type Touch, type TouchedPicture } from "../api/shapes";
import { count, when } from "../look/words";
import { Button, Card, Choice, ErrorNote, PageTitle, Shape, Tag } from "../parts/ui";
import { Select } from "../parts/Select";
import { Slider } from "./WatermarksPage";

type Kind = Touch["kind"];
const NAMES: Record<Kind, string> = {
  crop: "Crop and straighten",
  turn: "Turn",
  brightness: "Brightness",
  contrast: "Contrast",
  white: "White point",
  saturation: "Saturation",
  sharpen: "Sharpen",
  grey: "Grey",
  cover: "Paint over",
};
const FRESH: Record<Kind, Touch> = {
  crop: { kind: "crop", left: 0.05, top: 0.05, width: 0.9, height: 0.9, angle: 0 },
  turn: { kind: "turn", quarters: 1, mirrored: false },
  brightness: { kind: "brightness", amount: 15 },
  contrast: { kind: "contrast", amount: 15 },
  white: { kind: "white", colour: [255, 250, 240] },
  saturation: { kind: "saturation", amount: 15 },
  sharpen: { kind: "sharpen", amount: 0.6, radius: 0.8, threshold: 2 },
  grey: { kind: "grey" },
  cover: {
    kind: "cover",
    points: [],
    radius: 0.03,
    soft: 0.3,
    way: "surroundings",
    colour: [255, 255, 255],
    offset: [0.1, 0],
  },
};

export function TouchPage({ library }: { library: Library }) {
  const id = Number(useParams().picture);
  const picture = usePicture(id);
  const touches = useTouches(id);
  if (picture.isPending || touches.isPending) return <Shape className="h-[70vh]" />;
  if (picture.isError) return <ErrorNote error={picture.error} again={() => void picture.refetch()} />;
  if (touches.isError) return <ErrorNote error={touches.error} again={() => void touches.refetch()} />;
  return (
    <>
      <p className="mb-1 text-sm">
        <Link to={`/l/${library.slug}/review/${id}`} className="text-plum hover:underline">
          Back to the picture
        </Link>
      </p>
      <PageTitle>
        <span className="break-all">{picture.data.name}</span> <Tag state="new">touch-ups</Tag>
      </PageTitle>
      <Editor key={touches.data.original} library={library} touched={touches.data} />
    </>
  );
}

const valid = (step: Touch) => step.kind !== "cover" || step.points.length > 0;

/** A value that follows another a moment later, so that a slider asks for no picture at each of its steps. */
function useCalm<T>(value: T, milliseconds = 120): T {
  const [calm, setCalm] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setCalm(value), milliseconds);
    return () => clearTimeout(timer);
  }, [value, milliseconds]);
  return calm;
}

/** An address for some bytes, as long as they are shown. */
function useAddress(data: Blob | undefined): string | undefined {
  const [url, setUrl] = useState<string>();
  useEffect(() => {
    if (!data) return;
    const made = URL.createObjectURL(data);
    setUrl(made);
    return () => URL.revokeObjectURL(made);
  }, [data]);
  return url;
}

function Editor({ library, touched }: { library: Library; touched: TouchedPicture }) {
  const [steps, setSteps] = useState<Touch[]>(touched.steps);
  const [chosen, choose] = useState<number | null>(null);
  const save = useTouchUp(touched.picture_id);
  const run = useStartRun();
  const navigate = useNavigate();
  const same = JSON.stringify(steps) === JSON.stringify(touched.steps);
  const step = chosen === null ? undefined : steps[chosen];
  const put = (changed: Touch) => setSteps(steps.map((one, at) => (at === chosen ? changed : one)));
  const add = (kind: Kind) => {
    setSteps([...steps, FRESH[kind]]);
    choose(steps.length);
  };
  const drop = (at: number) => {
    setSteps(steps.filter((_, other) => other !== at));
    choose(null);
  };
  const move = (at: number, by: number) => {
    const to = at + by;
    if (to < 0 || to >= steps.length) return;
    const moved = [...steps];
    [moved[at], moved[to]] = [moved[to]!, moved[at]!];
    setSteps(moved);
    choose(to);
  };
  // A step that means a place is set on what the steps before it made.
  const upTo =
    step && (step.kind === "crop" || step.kind === "cover" || step.kind === "white")
      ? steps.slice(0, chosen!)
      : steps;
  return (
    <div className="grid gap-5 lg:grid-cols-[minmax(0,1fr)_22rem]">
      <Canvas
        picture={touched.picture_id}
        steps={step?.kind === "cover" ? steps.slice(0, chosen! + 1).filter(valid) : upTo.filter(valid)}
        step={step}
        put={put}
      />
      <div className="space-y-5">
        <Card
          title="Steps"
          aside={touched.by ? `by ${touched.by}${touched.at ? `, ${when(touched.at)}` : ""}` : undefined}
        >
          {steps.length === 0 && (
            <p className="mb-3 text-sm text-quiet">
              None yet. Each is made on what the one before made, always from the original: any number of
              changes costs one generation.
            </p>
          )}
          <ol className="mb-3 space-y-1">
            {steps.map((one, at) => (
              <li
                key={at}
                className={`flex items-center gap-1 rounded-[5px] border px-2 py-1 text-sm ${at === chosen ? "border-plum bg-plum-soft" : "border-line"}`}
              >
                <button
                  type="button"
                  className="flex-1 text-left font-semibold"
                  aria-pressed={at === chosen}
                  onClick={() => choose(at === chosen ? null : at)}
                >
                  {at + 1}. {NAMES[one.kind]}
                </button>
                <Icon label={`Step ${at + 1} earlier`} onClick={() => move(at, -1)}>
                  <ArrowUp size={15} />
                </Icon>
                <Icon label={`Step ${at + 1} later`} onClick={() => move(at, 1)}>
                  <ArrowDown size={15} />
                </Icon>
                <Icon label={`Take step ${at + 1} back`} onClick={() => drop(at)}>
                  <Trash2 size={15} />
                </Icon>
              </li>
            ))}
          </ol>
          <Select
            label="Add a step"
            className="w-full"
            value=""
            options={Object.entries(NAMES).map(([kind, name]) => ({ value: kind, name }))}
            onChange={(to) => add(to as Kind)}
            placeholder="Add a step …"
          />
          {step && (
            <div className="mt-4 border-t border-line pt-4">
              <StepSettings step={step} put={put} />
            </div>
          )}
        </Card>
        <Card>
          {save.isError && (
            <div className="mb-3">
              <ErrorNote error={save.error} />
            </div>
          )}
          {run.isError && (
            <div className="mb-3">
              <ErrorNote error={run.error} />
            </div>
          )}
          <div className="flex flex-wrap gap-2">
            <Button
              look="main"
              disabled={same || !steps.every(valid)}
              busy={save.isPending}
              onClick={() => save.mutate({ steps, original: touched.original })}
            >
              Save
            </Button>
            {!same && (
              <Button
                onClick={() => {
                  setSteps(touched.steps);
                  choose(null);
                }}
              >
                <Undo2 size={16} />
                Discard
              </Button>
            )}
            {same && save.isSuccess && (
              <Button
                busy={run.isPending}
                onClick={() =>
                  run.mutate(
                    { library: library.slug, kind: "treat", scope: { pictures: [touched.picture_id] } },
                    { onSuccess: (made) => void navigate(`/l/${library.slug}/treat/${made.id}`) },
                  )
                }
              >
                Make it so now
              </Button>
            )}
          </div>
          <p className="mt-2 text-xs text-quiet">
            {same && save.isSuccess
              ? "Saved. The next run applies it to the picture, its copies and its sizes."
              : "Nothing of the picture changes before the next run."}
          </p>
        </Card>
      </div>
    </div>
  );
}

function Icon({
  label,
  onClick,
  children,
}: {
  label: string;
  onClick: () => void;
  children: React.ReactNode;
}) {
  return (
    <button
      type="button"
      aria-label={label}
      title={label}
      className="rounded p-1 text-quiet hover:text-plum"
      onClick={onClick}
    >
      {children}
    </button>
  );
}

/** The picture as the steps make it: the whole of it, or a part at 100 %. */
function Canvas({
  picture,
  steps,
  step,
  put,
}: {
  picture: number;
  steps: Touch[];
  step: Touch | undefined;
  put: (step: Touch) => void;
}) {
  const [whole, setWhole] = useState(true);
  const [corner, setCorner] = useState({ left: 0, top: 0 });
  const calm = useCalm(steps);
  const shown = useView(picture, {
    steps: calm,
    whole,
    left: corner.left,
    top: corner.top,
    width: 880,
    height: 620,
  });
  const address = useAddress(shown.data?.data);
  const drag = useRef<{ x: number; y: number; left: number; top: number } | null>(null);
  const image = useRef<HTMLImageElement>(null);
  const at = (event: PointerEvent): [number, number] => {
    const box = image.current!.getBoundingClientRect();
    return [
      Math.min(1, Math.max(0, (event.clientX - box.left) / box.width)),
      Math.min(1, Math.max(0, (event.clientY - box.top) / box.height)),
    ];
  };
  const pick = (event: PointerEvent): [number, number, number] => {
    const [x, y] = at(event);
    const canvas = document.createElement("canvas");
    canvas.width = canvas.height = 1;
    const context = canvas.getContext("2d")!;
    context.drawImage(
      image.current!,
      x * image.current!.naturalWidth,
      y * image.current!.naturalHeight,
      1,
      1,
      0,
      0,
      1,
      1,
    );
    const [red = 255, green = 255, blue = 255] = context.getImageData(0, 0, 1, 1).data;
    return [red, green, blue];
  };
  const down = (event: PointerEvent<HTMLDivElement>) => {
    event.currentTarget.setPointerCapture(event.pointerId);
    if (!whole) drag.current = { x: event.clientX, y: event.clientY, ...corner };
    else if (step?.kind === "cover" && event.altKey) put({ ...step, way: "colour", colour: pick(event) });
    else if (step?.kind === "cover") put({ ...step, points: [...step.points, at(event)].slice(-400) });
    else if (step?.kind === "white") put({ ...step, colour: pick(event) });
    else if (step?.kind === "crop") drag.current = { x: at(event)[0], y: at(event)[1], left: 0, top: 0 };
  };
  const moved = (event: PointerEvent<HTMLDivElement>) => {
    if (event.buttons !== 1) return;
    const begun = drag.current;
    if (!whole && begun && shown.data) {
      const bounded = (value: number) => Math.min(1, Math.max(0, value));
      setCorner({
        left: bounded(begun.left - (event.clientX - begun.x) / shown.data.width),
        top: bounded(begun.top - (event.clientY - begun.y) / shown.data.height),
      });
    } else if (whole && step?.kind === "crop" && begun) {
      const [x, y] = at(event);
      const [left, top] = [Math.min(x, begun.x), Math.min(y, begun.y)];
      put({
        ...step,
        left,
        top,
        width: Math.max(0.02, Math.abs(x - begun.x)),
        height: Math.max(0.02, Math.abs(y - begun.y)),
      });
    } else if (whole && step?.kind === "cover" && step.points.length < 400) {
      const point = at(event);
      const last = step.points.at(-1);
      if (!last || Math.hypot(point[0] - last[0]!, point[1] - last[1]!) > step.radius / 2)
        put({ ...step, points: [...step.points, point] });
    }
  };
  return (
    <Card
      title={whole ? "The whole picture" : "At 100 %"}
      aside={
        <>
          {shown.data && (
            <span className="mr-3 tabular-nums">
              {count(shown.data.width)} × {count(shown.data.height)}
            </span>
          )}
          <Button onClick={() => setWhole(!whole)}>{whole ? "Look at 100 %" : "See the whole"}</Button>
        </>
      }
    >
      {shown.isError && <ErrorNote error={shown.error} again={() => void shown.refetch()} />}
      {shown.isPending && <Shape className="h-96" />}
      {shown.data && address && (
        <div
          aria-busy={shown.isFetching}
          onPointerDown={down}
          onPointerMove={moved}
          onPointerUp={() => {
            drag.current = null;
          }}
          className={`relative mx-auto w-fit max-w-full touch-none select-none overflow-hidden rounded-[5px] bg-sunken ${whole ? (step && ["crop", "cover", "white"].includes(step.kind) ? "cursor-crosshair" : "") : "cursor-grab"}`}
        >
          <img
            ref={image}
            src={address}
            alt="The picture with these steps"
            draggable={false}
            className="block max-h-[70vh] max-w-full"
          />
          {whole && step?.kind === "crop" && (
            <div
              className="pointer-events-none absolute border-2 border-white shadow-[0_0_0_9999px_rgba(0,0,0,.5)]"
              style={{
                left: `${step.left * 100}%`,
                top: `${step.top * 100}%`,
                width: `${Math.min(step.width, 1 - step.left) * 100}%`,
                height: `${Math.min(step.height, 1 - step.top) * 100}%`,
              }}
            />
          )}
          {shown.isFetching && (
            <span className="absolute right-2 top-2 rounded bg-black/60 px-2 py-0.5 text-xs text-white">
              making it …
            </span>
          )}
        </div>
      )}
      <p className="mt-2 text-xs text-quiet">
        {!whole
          ? "Drag to look elsewhere."
          : step?.kind === "crop"
            ? "Drag a box."
            : step?.kind === "cover"
              ? "Paint over what you want to remove. With Alt, pick a colour to paint with."
              : step?.kind === "white"
                ? "Click on what should be white or grey."
                : "As the next run would make it, but for the codec."}
      </p>
    </Card>
  );
}

function StepSettings({ step, put }: { step: Touch; put: (step: Touch) => void }) {
  if (step.kind === "brightness" || step.kind === "contrast" || step.kind === "saturation")
    return (
      <Slider
        label={NAMES[step.kind]}
        words={`${step.amount > 0 ? "+" : ""}${step.amount}`}
        value={step.amount}
        least={-100}
        most={100}
        onChange={(amount) => put({ ...step, amount })}
      />
    );
  if (step.kind === "sharpen")
    return (
      <div className="space-y-3">
        <Slider
          label="Amount"
          words={step.amount.toFixed(1)}
          value={step.amount}
          least={0}
          most={5}
          step={0.1}
          onChange={(amount) => put({ ...step, amount })}
        />
        <Slider
          label="Radius"
          words={`${step.radius.toFixed(1)} pixels`}
          value={step.radius}
          least={0.3}
          most={5}
          step={0.1}
          onChange={(radius) => put({ ...step, radius })}
        />
        <Slider
          label="Threshold"
          words={`${step.threshold}`}
          value={step.threshold}
          least={0}
          most={40}
          onChange={(threshold) => put({ ...step, threshold })}
        />
      </div>
    );
  if (step.kind === "turn")
    return (
      <div className="flex flex-wrap gap-2">
        <Button onClick={() => put({ ...step, quarters: (step.quarters + 3) % 4 })}>
          <RotateCcw size={16} />
          Left
        </Button>
        <Button onClick={() => put({ ...step, quarters: (step.quarters + 1) % 4 })}>
          <RotateCw size={16} />
          Right
        </Button>
        <Button aria-pressed={step.mirrored} onClick={() => put({ ...step, mirrored: !step.mirrored })}>
          {step.mirrored ? "Mirrored" : "Mirror"}
        </Button>
      </div>
    );
  if (step.kind === "crop")
    return (
      <div className="space-y-3">
        <Slider
          label="Straighten"
          words={`${step.angle.toFixed(1)}°`}
          value={step.angle}
          least={-45}
          most={45}
          step={0.1}
          onChange={(angle) => put({ ...step, angle })}
        />
        {(["left", "top", "width", "height"] as const).map((side) => (
          <Slider
            key={side}
            label={side[0]!.toUpperCase() + side.slice(1)}
            words={`${Math.round(step[side] * 100)} %`}
            value={Math.round(step[side] * 100)}
            least={side === "width" || side === "height" ? 2 : 0}
            most={100}
            onChange={(value) => put({ ...step, [side]: value / 100 })}
          />
        ))}
      </div>
    );
  if (step.kind === "white")
    return (
      <Colour
        label="This becomes neutral"
        colour={step.colour}
        onChange={(colour) => put({ ...step, colour })}
      />
    );
  if (step.kind === "cover")
    return (
      <div className="space-y-3">
        <Choice
          legend="Paint with"
          name="way"
          chosen={step.way}
          onChange={(way) => put({ ...step, way })}
          of={{
            surroundings: ["What surrounds it", "Continued into the patch."],
            clone: ["Another place", "Copied from beside it."],
            colour: ["A colour", "Alt-click on the picture picks one."],
          }}
        />
        {step.way === "colour" && (
          <Colour label="Colour" colour={step.colour} onChange={(colour) => put({ ...step, colour })} />
        )}
        {step.way === "clone" && (
          <>
            <Slider
              label="Taken from, across"
              words={`${Math.round(step.offset[0]! * 100)} %`}
              value={Math.round(step.offset[0]! * 100)}
              least={-100}
              most={100}
              onChange={(value) => put({ ...step, offset: [value / 100, step.offset[1]!] })}
            />
            <Slider
              label="Taken from, down"
              words={`${Math.round(step.offset[1]! * 100)} %`}
              value={Math.round(step.offset[1]! * 100)}
              least={-100}
              most={100}
              onChange={(value) => put({ ...step, offset: [step.offset[0]!, value / 100] })}
            />
          </>
        )}
        <Slider
          label="Brush"
          words={`${(step.radius * 100).toFixed(1)} % of the longer side`}
          value={step.radius * 1000}
          least={1}
          most={250}
          onChange={(value) => put({ ...step, radius: value / 1000 })}
        />
        <Slider
          label="Soft rim"
          words={`${Math.round(step.soft * 100)} %`}
          value={Math.round(step.soft * 100)}
          least={0}
          most={100}
          onChange={(value) => put({ ...step, soft: value / 100 })}
        />
        {step.points.length === 0 ? (
          <p className="text-sm text-clay">Paint on the picture first.</p>
        ) : (
          <Button onClick={() => put({ ...step, points: [] })}>Begin the stroke again</Button>
        )}
      </div>
    );
  return <p className="text-sm text-quiet">Removes colour and keeps brightness.</p>;
}

function Colour({
  label,
  colour,
  onChange,
}: {
  label: string;
  colour: number[];
  onChange: (colour: number[]) => void;
}) {
  const hex = `#${colour.map((value) => value.toString(16).padStart(2, "0")).join("")}`;
  return (
    <label className="flex items-center gap-3 text-sm">
      <input
        type="color"
        className="h-9 w-12 rounded border border-line"
        value={hex}
        onChange={(event) =>
          onChange([1, 3, 5].map((at) => parseInt(event.target.value.slice(at, at + 2), 16)))
        }
      />
      <span className="font-semibold">{label}</span>
    </label>
  );
}
