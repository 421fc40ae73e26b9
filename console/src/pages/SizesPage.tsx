/** Sizes: what is made of each picture for its places on pages, with what a change would do and show before it is saved. */

import { Plus, Trash2 } from "lucide-react";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { previewUrl, type Library, type Picture } from "../api/client";
import {
  NEW_SIZE,
  useCuts,
  useLadder,
  useRemoveSize,
  useSaveSize,
  useSizeEffect,
  useSizes,
  useRemoveUnused,
  useUnused,
  type NamedSize,
  type SizeSettings,
  type UnusedSize,
} from "../api/shapes";
import { useSomePictures } from "../api/queries";
import { bytes, count, many } from "../look/words";
import { CutShown } from "../parts/Cuts";
import { Button, Card, Confirm, Empty, ErrorNote, Field, INPUT, NumberInput, Shape, Tick } from "../parts/ui";
import { Select } from "../parts/Select";

type Change = (part: Partial<SizeSettings>) => void;

const WAYS = {
  fit: "Fit inside",
  fill: "Fill, and cut what does not fit",
  stretch: "Stretch to exactly this",
} as const;
const PLACES = [
  "top-left",
  "top",
  "top-right",
  "left",
  "centre",
  "right",
  "bottom-left",
  "bottom",
  "bottom-right",
] as const;
const DENSITIES = [1, 1.5, 2, 3];
const IDLE_DAYS = [7, 30, 90, 365];

export function SizesPage({ library }: { library: Library }) {
  const sizes = useSizes(library.slug);
  const [asked] = useSearchParams();
  const wanted = asked.get("width") ? fromPlace(asked) : null;
  const [chosen, choose] = useState<string | null>(wanted ? "" : null);
  if (sizes.isPending) return <Shape className="h-96" />;
  if (sizes.isError) return <ErrorNote error={sizes.error} again={() => void sizes.refetch()} />;
  const current = sizes.data.find((size) => size.name === chosen);
  const editing = chosen !== null && (chosen === "" || current !== undefined);
  return (
    <div className="space-y-5">
      <Card
        title="Sizes"
        aside={
          <Button look="main" onClick={() => choose("")}>
            <Plus size={16} />
            New size
          </Button>
        }
      >
        {sizes.data.length === 0 && !editing ? (
          <Empty
            title="No sizes yet"
            action={
              <Button look="main" onClick={() => choose("")}>
                Define the first
              </Button>
            }
          >
            A picture shown at 520 by 390 needs a file of 520 by 390. Define a size once: runs make it of
            every picture, new ones too, and keep it in step.
          </Empty>
        ) : (
          <SizeList sizes={sizes.data} chosen={chosen} choose={choose} />
        )}
        {sizes.data.some((size) => size.waiting > 0) && (
          <p className="mt-3 text-sm">
            {many(
              sizes.data.reduce((sum, size) => sum + size.waiting, 0),
              "file",
            )}{" "}
            wait for the next run.{" "}
            <Link className="text-plum hover:underline" to={`/l/${library.slug}/treat`}>
              Start it
            </Link>
          </p>
        )}
      </Card>
      {editing && (
        <Editor
          key={chosen}
          library={library}
          size={current}
          begin={wanted}
          onDone={(name) => choose(name)}
        />
      )}
      {sizes.data.length > 0 && <Unused slug={library.slug} />}
    </div>
  );
}

/** A size as a place on a page needs it. */
function fromPlace(asked: URLSearchParams): SizeSettings {
  const [width, height] = [Number(asked.get("width")), Number(asked.get("height") ?? 0)];
  return { ...NEW_SIZE, way: height ? "fill" : "fit", width, height };
}

function SizeList({
  sizes,
  chosen,
  choose,
}: {
  sizes: NamedSize[];
  chosen: string | null;
  choose: (name: string) => void;
}) {
  return (
    <div className="overflow-x-auto">
      <table className="w-full text-sm">
        <thead>
          <tr className="text-left text-xs text-quiet">
            <th className="py-1 pr-4 font-normal">Size</th>
            <th className="py-1 pr-4 font-normal">What</th>
            <th className="py-1 pr-4 text-right font-normal">Files</th>
            <th className="py-1 pr-4 text-right font-normal">Bytes</th>
            <th className="py-1 pr-4 text-right font-normal">As fetched</th>
            <th className="py-1 text-right font-normal">Waiting</th>
          </tr>
        </thead>
        <tbody>
          {sizes.map((size) => (
            <tr
              key={size.name}
              className={`border-t border-line ${chosen === size.name ? "bg-plum-soft" : ""}`}
            >
              <td className="py-1.5 pr-4">
                <button
                  type="button"
                  className="font-semibold text-plum hover:underline"
                  onClick={() => choose(size.name)}
                >
                  {size.name}
                </button>
              </td>
              <td className="py-1.5 pr-4">{described(size.settings)}</td>
              <td className="py-1.5 pr-4 text-right tabular-nums">{count(size.files)}</td>
              <td className="py-1.5 pr-4 text-right tabular-nums">{bytes(size.bytes)}</td>
              <td className="py-1.5 pr-4 text-right tabular-nums">{bytes(size.bytes_lightest)}</td>
              <td className="py-1.5 text-right tabular-nums">{size.waiting ? count(size.waiting) : "–"}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

export function described(settings: SizeSettings): string {
  if (settings.widths.length) return `widths ${settings.widths.join(", ")}`;
  const box = `${settings.width || "any"} × ${settings.height || "any"}`;
  const words = [
    {
      fit: `inside ${box}`,
      fill: `${box}, cut around ${settings.anchor.replace("-", " ")}`,
      stretch: `stretched to ${box}`,
    }[settings.way],
  ];
  if (settings.densities.some((density) => density !== 1))
    words.push(`at ${settings.densities.map((density) => `${density}×`).join(", ")}`);
  if (settings.grey) words.push("grey");
  if (settings.format) words.push(settings.format.toUpperCase());
  if (settings.level) words.push(settings.level);
  return words.join(", ");
}

function Editor({
  library,
  size,
  begin,
  onDone,
}: {
  library: Library;
  size: NamedSize | undefined;
  begin: SizeSettings | null;
  onDone: (name: string | null) => void;
}) {
  const [name, setName] = useState(size?.name ?? (begin ? `place-${begin.width}` : ""));
  const [settings, setSettings] = useState<SizeSettings>(size?.settings ?? begin ?? NEW_SIZE);
  const [removing, setRemoving] = useState(false);
  const save = useSaveSize(library.slug);
  const remove = useRemoveSize(library.slug);
  const change: Change = (part) => setSettings((now) => ({ ...now, ...part }));
  const right = /^[a-z0-9](?:[a-z0-9-]{0,38}[a-z0-9])?$/.test(name);
  const effect = useSizeEffect(library.slug, right ? name : "", settings);
  const without = useSizeEffect(library.slug, size?.name ?? "", removing ? null : undefined);
  return (
    <form
      noValidate
      className="grid gap-5 lg:grid-cols-[minmax(0,1fr)_minmax(0,24rem)]"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate({ name, settings }, { onSuccess: (saved) => onDone(saved.name) });
      }}
    >
      <Card title={size ? size.name : "A new size"}>
        <div className="space-y-4">
          {!size && (
            <Field label="Name" hint="Small letters, digits and hyphens. It stands in the files’ names.">
              <input
                className={INPUT}
                value={name}
                onChange={(event) => setName(event.target.value)}
                autoComplete="off"
              />
            </Field>
          )}
          <Shapes settings={settings} change={change} slug={library.slug} />
          {settings.way === "fill" && settings.widths.length === 0 && (
            <AnchorChoice settings={settings} change={change} />
          )}
          <More settings={settings} change={change} />
        </div>
      </Card>
      <div className="space-y-5">
        <Card title="What the next run would do">
          {!right && <p className="text-sm text-quiet">Give the size a name first.</p>}
          {right && effect.isError && <ErrorNote error={effect.error} />}
          {right && effect.isPending && <Shape className="h-16" />}
          {right && effect.isSuccess && <EffectWords effect={effect.data} />}
          {save.isError && (
            <div className="mt-3">
              <ErrorNote error={save.error} />
            </div>
          )}
          <div className="mt-4 flex flex-wrap gap-2">
            <Button type="submit" look="main" disabled={!right || effect.isError} busy={save.isPending}>
              Save
            </Button>
            <Button onClick={() => onDone(null)}>Close</Button>
            {size && (
              <Button look="danger" onClick={() => setRemoving(true)}>
                <Trash2 size={16} />
                Remove
              </Button>
            )}
          </div>
          {save.isSuccess && <p className="mt-2 text-sm text-leaf">Saved. The next run applies it.</p>}
        </Card>
        <Samples library={library} settings={settings} name={name} />
      </div>
      {size && (
        <Confirm
          open={removing}
          onClose={() => setRemoving(false)}
          title={`Remove ${size.name}`}
          action="Remove it"
          busy={remove.isPending}
          error={remove.error}
          onConfirm={() => remove.mutate(size.name, { onSuccess: () => onDone(null) })}
        >
          <p>
            The next run removes {without.isSuccess ? many(without.data.remove, "file") : "its files"},{" "}
            {bytes(size.bytes)}, with their copies. Pages that name them show nothing there. Defined again,
            they come back the same.
          </p>
        </Confirm>
      )}
    </form>
  );
}

function EffectWords({ effect }: { effect: NonNullable<ReturnType<typeof useSizeEffect>["data"]> }) {
  const rows: [string, number, string?][] = [
    ["made", effect.make, effect.bytes != null ? `about ${bytes(effect.bytes)}` : undefined],
    ["made again", effect.remake],
    ["removed", effect.remove],
    ["left as they are", effect.stay],
  ];
  return (
    <>
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 text-sm">
        {rows.map(([what, files, more]) => (
          <div key={what} className="contents">
            <dt className="text-right font-semibold tabular-nums">{count(files)}</dt>
            <dd>
              {what}
              {more && <span className="text-quiet">, {more}</span>}
            </dd>
          </div>
        ))}
      </dl>
      {effect.too_small > 0 && (
        <p className="mt-2 text-sm text-quiet">
          {many(effect.too_small, "file")} not made: the pictures are no larger than the size.
        </p>
      )}
      {effect.of_the_site > 0 && (
        <p className="mt-2 text-sm text-quiet">
          {many(effect.of_the_site, "file")} the site makes itself; treated, not made twice.
        </p>
      )}
      {effect.taken > 0 && (
        <p className="mt-2 text-sm text-clay">
          {many(effect.taken, "name")} taken by other files, such as{" "}
          <span className="break-all font-mono text-xs">{effect.taken_paths[0]}</span>.
        </p>
      )}
    </>
  );
}

function Shapes({ settings, change, slug }: { settings: SizeSettings; change: Change; slug: string }) {
  const isLadder = settings.widths.length > 0;
  return (
    <>
      <Field label="How">
        <Select
          label="How"
          className="w-full"
          value={isLadder ? "ladder" : settings.way}
          options={[
            ...Object.entries(WAYS).map(([way, words]) => ({ value: way, name: words })),
            { value: "ladder", name: "A ladder of widths" },
          ]}
          onChange={(to) => {
            const way = to;
            if (way === "ladder")
              change({ way: "fit", width: 0, height: 0, densities: [1], widths: [320, 640, 960, 1280] });
            else
              change({
                way: way as SizeSettings["way"],
                widths: [],
                width: settings.width || 520,
                height: way === "fit" ? settings.height : settings.height || 390,
              });
          }}
        />
      </Field>
      {isLadder ? (
        <LadderChoice settings={settings} change={change} slug={slug} />
      ) : (
        <>
          <fieldset>
            <legend className="mb-1 text-sm font-semibold">Pixels</legend>
            <div className="flex flex-wrap items-center gap-2">
              <NumberInput
                label="Width"
                value={settings.width || null}
                max={16384}
                onChange={(width) => change({ width: width ?? 0 })}
              />
              <span className="text-quiet">by</span>
              <NumberInput
                label="Height"
                unit="pixels"
                value={settings.height || null}
                max={16384}
                onChange={(height) => change({ height: height ?? 0 })}
              />
            </div>
            <p className="mt-1 text-xs text-quiet">
              {settings.way === "fit" ? "Empty: no limit. " : ""}Nothing is ever made larger.
            </p>
          </fieldset>
          <fieldset className="flex flex-wrap gap-4">
            <legend className="mb-1 text-sm font-semibold">Also for dense screens</legend>
            {DENSITIES.map((density) => (
              <Tick
                key={density}
                label={`${density}×`}
                on={settings.densities.includes(density)}
                disabled={settings.densities.length === 1 && settings.densities[0] === density}
                onChange={(on) =>
                  change({
                    densities: on
                      ? [...settings.densities, density].sort((a, b) => a - b)
                      : settings.densities.filter((one) => one !== density),
                  })
                }
              />
            ))}
          </fieldset>
        </>
      )}
    </>
  );
}

function LadderChoice({ settings, change, slug }: { settings: SizeSettings; change: Change; slug: string }) {
  const ladder = useLadder(slug);
  const [range, setRange] = useState({ least: 320, most: 1920, step: 25 });
  return (
    <fieldset className="space-y-2">
      <legend className="mb-1 text-sm font-semibold">Widths</legend>
      <input
        aria-label="Widths"
        className={INPUT}
        key={settings.widths.join()}
        defaultValue={settings.widths.join(", ")}
        onBlur={(event) => {
          const widths = event.target.value
            .split(/[\s,]+/)
            .map(Number)
            .filter((width) => width > 0);
          if (widths.length) change({ widths });
        }}
      />
      <div className="flex flex-wrap items-center gap-2 text-sm">
        From{" "}
        <NumberInput
          label="Narrowest"
          width="w-20"
          value={range.least}
          onChange={(least) => setRange({ ...range, least: least ?? 320 })}
        />
        to{" "}
        <NumberInput
          label="Widest"
          width="w-20"
          value={range.most}
          onChange={(most) => setRange({ ...range, most: most ?? 1920 })}
        />
        in steps of{" "}
        <NumberInput
          label="Step in kB"
          unit="kB"
          width="w-20"
          value={range.step}
          onChange={(step) => setRange({ ...range, step: step ?? 25 })}
        />
        <Button
          busy={ladder.isPending}
          onClick={() =>
            ladder.mutate(
              { ...range, step: range.step * 1000 },
              { onSuccess: ({ widths }) => change({ widths }) },
            )
          }
        >
          Find by bytes
        </Button>
      </div>
      {ladder.isError && <ErrorNote error={ladder.error} />}
      {ladder.isSuccess && (
        <p className="text-xs text-quiet">
          {ladder.data.widths
            .map((width, at) => `${width}: ${bytes(ladder.data.bytes[at] ?? 0)}`)
            .join(" · ")}
          . Measured on {many(ladder.data.files, "JPEG")} here.
        </p>
      )}
    </fieldset>
  );
}

function AnchorChoice({ settings, change }: { settings: SizeSettings; change: Change }) {
  return (
    <fieldset>
      <legend className="mb-1 text-sm font-semibold">Cut around</legend>
      <div className="flex flex-wrap items-center gap-4">
        <div className="grid w-fit grid-cols-3 gap-1">
          {PLACES.map((place) => (
            <button
              key={place}
              type="button"
              aria-label={place.replace("-", " ")}
              aria-pressed={settings.anchor === place}
              onClick={() => change({ anchor: place })}
              className={`h-8 w-8 rounded-[3px] border ${settings.anchor === place ? "border-plum bg-plum" : "border-line bg-surface hover:border-plum"}`}
            />
          ))}
        </div>
        <div className="space-y-2">
          {(
            [
              [
                "focus",
                "The picture’s focal point",
                "Set by hand, or found from what matters in the picture.",
              ],
              ["matters", "What matters in it", "Colour, contrast, edges, skin."],
            ] as const
          ).map(([anchor, label, hint]) => (
            <label key={anchor} className="flex min-h-7 items-start gap-2 text-sm">
              <input
                type="radio"
                name="anchor"
                className="mt-0.5 h-4 w-4 accent-plum"
                checked={settings.anchor === anchor}
                onChange={() => change({ anchor })}
              />
              <span>
                <span className="block font-semibold">{label}</span>
                <span className="block text-xs text-quiet">{hint}</span>
              </span>
            </label>
          ))}
        </div>
      </div>
    </fieldset>
  );
}

function More({ settings, change }: { settings: SizeSettings; change: Change }) {
  const { sharpening, when } = settings;
  return (
    <details>
      <summary className="cursor-pointer text-sm font-semibold text-plum">
        Format, level, sharpening, names, which pictures
      </summary>
      <div className="mt-3 grid gap-4 sm:grid-cols-2">
        <Field label="Format">
          <Select
            label="Format"
            className="w-full"
            value={settings.format ?? ""}
            options={[
              { value: "", name: "As the picture" },
              { value: "jpeg", name: "JPEG" },
              { value: "png", name: "PNG" },
              { value: "webp", name: "WebP" },
              { value: "avif", name: "AVIF" },
            ]}
            onChange={(to) => change({ format: (to || null) as SizeSettings["format"] })}
          />
        </Field>
        <Field label="Level">
          <Select
            label="Level"
            className="w-full"
            value={settings.level ?? ""}
            options={[
              { value: "", name: "As the recipe" },
              { value: "exact", name: "Exact" },
              { value: "gallery", name: "Gallery" },
              { value: "everyday", name: "Everyday" },
              { value: "lean", name: "Lean" },
            ]}
            onChange={(to) => change({ level: (to || null) as SizeSettings["level"] })}
          />
        </Field>
        <Tick label="Grey" hint="Without colour." on={settings.grey} onChange={(grey) => change({ grey })} />
        <div className="flex flex-wrap items-center gap-2 text-sm">
          Sharpen by{" "}
          <NumberInput
            label="Amount of sharpening"
            max={5}
            width="w-20"
            value={sharpening.amount}
            onChange={(amount) => change({ sharpening: { ...sharpening, amount: amount ?? 0 } })}
          />
          within{" "}
          <NumberInput
            label="Radius of sharpening"
            unit="px, above"
            width="w-20"
            value={sharpening.radius}
            onChange={(radius) => change({ sharpening: { ...sharpening, radius: radius ?? 0.6 } })}
          />
          <NumberInput
            label="Threshold of sharpening"
            width="w-20"
            value={sharpening.threshold}
            onChange={(threshold) => change({ sharpening: { ...sharpening, threshold: threshold ?? 0 } })}
          />
        </div>
        <Field
          label="File names"
          hint="{stem} and {ext} of the picture’s file; {name}, {width}, {height}, {times}; a folder may stand before."
        >
          <input
            className={`${INPUT} font-mono text-xs`}
            value={settings.pattern}
            onChange={(event) => change({ pattern: event.target.value })}
          />
        </Field>
        <Field label="Only in this folder">
          <input
            className={INPUT}
            value={when.folder ?? ""}
            onChange={(event) => change({ when: { ...when, folder: event.target.value || null } })}
          />
        </Field>
        <Field label="Only names like" hint="With * and ?">
          <input
            className={INPUT}
            value={when.name ?? ""}
            onChange={(event) => change({ when: { ...when, name: event.target.value || null } })}
          />
        </Field>
      </div>
    </details>
  );
}

/** Some pictures as the size would cut them. Around what matters it is shown about so, before it is saved. */
function Samples({ library, settings, name }: { library: Library; settings: SizeSettings; name: string }) {
  const pictures = useSomePictures(library.slug);
  const some = (pictures.data ?? []).slice(0, 6);
  if (some.length === 0) return null;
  return (
    <Card title="How it looks">
      <div className="flex flex-wrap gap-3">
        {some.map((picture) => (
          <Sample key={picture.id} picture={picture} settings={settings} name={name || "size"} />
        ))}
      </div>
    </Card>
  );
}

function Sample({ picture, settings, name }: { picture: Picture; settings: SizeSettings; name: string }) {
  const cuts = useCuts(picture.id, settings.way === "fill");
  const size = sized(picture.width, picture.height, settings);
  if (!size) return null;
  const [width, height] = size;
  const spot = cuts.data ?? { x: 0.5, y: 0.5 };
  const box =
    settings.way === "fill"
      ? cutBox(picture.width, picture.height, width / height, settings.anchor, spot)
      : { left: 0, top: 0, right: 1, bottom: 1 };
  return (
    <CutShown
      image={previewUrl(picture.original_id, 400, picture.bytes_now)}
      cut={{ name, slot: "1x", width, height, ...box }}
    />
  );
}

/** What a size makes of a picture: as the service has it, for looking at it while it is defined. */
export function sized(width: number, height: number, settings: SizeSettings): [number, number] | null {
  const wide = (settings.widths[0] ?? settings.width) || width;
  const tall = settings.widths.length ? height : settings.height || height;
  if (settings.way === "stretch") return wide <= width && tall <= height ? [wide, tall] : null;
  const scale =
    settings.way === "fit" ? Math.min(wide / width, tall / height) : Math.min(1, width / wide, height / tall);
  if (settings.way === "fit")
    return scale >= 1
      ? null
      : [Math.max(1, Math.round(width * scale)), Math.max(1, Math.round(height * scale))];
  return [Math.max(1, Math.round(wide * scale)), Math.max(1, Math.round(tall * scale))];
}

/** The largest box of some proportions around a place or a point, in parts of the picture. */
export function cutBox(
  width: number,
  height: number,
  shape: number,
  anchor: string,
  spot: { x: number; y: number },
) {
  const across = Math.min(1, (shape * height) / width);
  const down = Math.min(1, width / shape / height);
  const place = { left: 0, right: 1, top: 0, bottom: 1 };
  let [x, y] = [spot.x - across / 2, spot.y - down / 2];
  if (anchor !== "focus" && anchor !== "matters") {
    const parts = anchor.split("-");
    x = (1 - across) * (parts.includes("left") ? place.left : parts.includes("right") ? place.right : 0.5);
    y = (1 - down) * (parts.includes("top") ? place.top : parts.includes("bottom") ? place.bottom : 0.5);
  }
  const left = Math.min(Math.max(x, 0), 1 - across);
  const top = Math.min(Math.max(y, 0), 1 - down);
  return { left, top, right: left + across, bottom: top + down };
}

function Unused({ slug }: { slug: string }) {
  const [days, setDays] = useState(30);
  const [asking, ask] = useState(false);
  const unused = useUnused(slug, days);
  const removal = useRemoveUnused(slug);
  if (!unused.isSuccess) return null;
  const { since, sizes } = unused.data;
  const told = sizes.filter((size) => size.files + size.removed_unused > 0);
  const sum = (of: (size: UnusedSize) => number) => sizes.reduce((all, size) => all + of(size), 0);
  const [files, young, gone] = [
    sum((size) => size.files),
    sum((size) => size.young),
    sum((size) => size.removed_unused),
  ];
  return (
    <Card title="What nobody asked for" aside={since ? `counted since ${since.slice(0, 10)}` : undefined}>
      {!since && (
        <p className="text-sm text-quiet">
          Nothing was counted yet. Count visits under Serve, or weigh pages, and this says which files nobody
          loads.
        </p>
      )}
      {since && (
        <div className="mb-3 flex items-center gap-2 text-sm">
          Within
          <Select
            label="Within"
            value={String(days)}
            options={IDLE_DAYS.map((choice) => ({ value: String(choice), name: `${choice} days` }))}
            onChange={(to) => {
              setDays(Number(to));
              removal.reset();
            }}
          />
        </div>
      )}
      {since && told.length === 0 && (
        <p className="text-sm text-leaf">Every file of every size was asked for.</p>
      )}
      {told.length > 0 && (
        <ul className="space-y-1 text-sm">
          {told.map((size) => (
            <li key={size.name}>
              <span className="font-semibold">{size.name}</span>: {many(size.files, "file")} not asked for,{" "}
              {bytes(size.bytes)}; {count(size.asked_for)} were.
              {size.young > 0 && (
                <span className="text-quiet">
                  {" "}
                  {count(size.young)} of them {size.young === 1 ? "is" : "are"} too new to tell.
                </span>
              )}
              {size.removed_unused > 0 && (
                <span className="text-quiet">
                  {" "}
                  {count(size.removed_unused)} {size.removed_unused === 1 ? "was" : "were"} removed.
                </span>
              )}
            </li>
          ))}
        </ul>
      )}
      {removal.isError && !asking && (
        <div className="mt-3">
          <ErrorNote error={removal.error} />
        </div>
      )}
      {removal.isSuccess && (
        <p role="status" className="mt-3 text-sm text-leaf">
          {many(removal.data.files, "file")}: the next run{" "}
          {removal.variables === null ? "makes them again" : "removes them"}.
        </p>
      )}
      <div className="mt-3 flex flex-wrap items-center gap-3">
        {files > young && (
          <Button onClick={() => ask(true)} disabled={removal.isPending}>
            Remove {many(files - young, "file")}
          </Button>
        )}
        {gone > 0 && (
          <Button look="plain" onClick={() => removal.mutate(null)} disabled={removal.isPending}>
            Bring back {many(gone, "file")}
          </Button>
        )}
      </div>
      <Confirm
        open={asking}
        onClose={() => ask(false)}
        title={`Remove ${many(files - young, "file")}`}
        action="Remove them"
        busy={removal.isPending}
        error={removal.error}
        onConfirm={() => removal.mutate(days, { onSuccess: () => ask(false) })}
      >
        <p>
          The next run removes them. Whoever asks for one that is served from here is sent the whole picture
          instead, and the run after makes it again. A site that serves its own files has nothing there until
          then.
        </p>
      </Confirm>
    </Card>
  );
}
