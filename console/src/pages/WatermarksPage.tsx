/** Watermarks: what is laid over what visitors are served, and how it looks, before anything is made. */

import { Plus, Trash2 } from "lucide-react";
import { useEffect, useState } from "react";
import { previewUrl, type Library } from "../api/client";
import {
  watermarkUrl,
  NEW_WATERMARK,
  useWatermarks,
  useRemoveWatermark,
  useSaveWatermark,
  useSizes,
  type WatermarkRule,
  type WatermarkSettings,
} from "../api/shapes";
import { useSomePictures } from "../api/queries";
import {
  Button,
  Card,
  Choice,
  Confirm,
  Empty,
  ErrorNote,
  Field,
  INPUT,
  NumberInput,
  Shape,
  Tick,
} from "../parts/ui";
import { Select } from "../parts/Select";

type Change = (part: Partial<WatermarkSettings>) => void;
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

export function WatermarksPage({ library }: { library: Library }) {
  const watermarks = useWatermarks(library.slug);
  const [chosen, choose] = useState<string | null>(null);
  if (watermarks.isPending) return <Shape className="h-96" />;
  if (watermarks.isError)
    return <ErrorNote error={watermarks.error} again={() => void watermarks.refetch()} />;
  const current = watermarks.data.find((watermark) => watermark.name === chosen);
  const editing = chosen !== null && (chosen === "" || current !== undefined);
  return (
    <div className="space-y-5">
      <Card
        title="Watermarks"
        aside={
          <Button look="main" onClick={() => choose("")}>
            <Plus size={16} />
            New watermark
          </Button>
        }
      >
        {watermarks.data.length === 0 && !editing ? (
          <Empty
            title="No watermarks"
            action={
              <Button look="main" onClick={() => choose("")}>
                Define one
              </Button>
            }
          >
            A watermark is laid over what visitors are served, never over what is kept: the original stays in
            the backup, and without the watermark the next run brings back the very files of before.
          </Empty>
        ) : (
          <ul className="divide-y divide-line">
            {watermarks.data.map((watermark) => (
              <li key={watermark.name} className="flex flex-wrap items-center gap-3 py-2 text-sm">
                <button
                  type="button"
                  className="font-semibold text-plum hover:underline"
                  onClick={() => choose(watermark.name)}
                >
                  {watermark.name}
                </button>
                <span>{said(watermark)}</span>
                {!watermark.picture && !watermark.settings.words && (
                  <span className="text-clay">
                    It needs a picture or words: until then nothing gets a watermark.
                  </span>
                )}
              </li>
            ))}
          </ul>
        )}
      </Card>
      {editing && <Editor key={chosen} library={library} watermark={current} onDone={choose} />}
    </div>
  );
}

function said({ settings, picture, width, height }: WatermarkRule): string {
  const what = settings.words
    ? `“${settings.words}”`
    : picture
      ? `a picture of ${width} × ${height}`
      : "nothing yet";
  const on = [
    settings.originals && "the site’s own files",
    settings.sizes === null ? "all sizes" : settings.sizes.join(", "),
  ]
    .filter(Boolean)
    .join(" and ");
  return `${what}, ${settings.place.replace("-", " ")}, on ${on || "nothing"}`;
}

function Editor({
  library,
  watermark,
  onDone,
}: {
  library: Library;
  watermark: WatermarkRule | undefined;
  onDone: (name: string | null) => void;
}) {
  const [name, setName] = useState(watermark?.name ?? "");
  const [settings, setSettings] = useState<WatermarkSettings>(watermark?.settings ?? NEW_WATERMARK);
  const [picture, setPicture] = useState<File | null>(null);
  const [kind, setKind] = useState<"words" | "picture">(
    watermark && !watermark.settings.words ? "picture" : "words",
  );
  const [removing, setRemoving] = useState(false);
  const sizes = useSizes(library.slug);
  const save = useSaveWatermark(library.slug);
  const remove = useRemoveWatermark(library.slug);
  const change: Change = (part) => setSettings((now) => ({ ...now, ...part }));
  const right = /^[a-z0-9](?:[a-z0-9-]{0,38}[a-z0-9])?$/.test(name);
  const wanted = kind === "words" ? settings : { ...settings, words: "" };
  return (
    <form
      noValidate
      className="grid gap-5 lg:grid-cols-[minmax(0,1fr)_minmax(0,26rem)]"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate(
          { name, settings: wanted, picture: kind === "picture" ? picture : null },
          { onSuccess: (saved) => onDone(saved.name) },
        );
      }}
    >
      <Card title={watermark ? watermark.name : "A new watermark"}>
        <div className="space-y-4">
          {!watermark && (
            <Field
              label="Name"
              hint="Small letters, digits and hyphens. Watermarks are asked in the order of their names; the first that fits a file is laid over it."
            >
              <input
                className={INPUT}
                value={name}
                onChange={(event) => setName(event.target.value)}
                autoComplete="off"
              />
            </Field>
          )}
          <Choice
            legend="What"
            name="kind"
            chosen={kind}
            onChange={setKind}
            of={{
              words: ["Words", "Drawn in a bundled typeface."],
              picture: ["A picture", "PNG or WebP with transparency, up to 5 MB."],
            }}
          />
          {kind === "words" ? (
            <Field label="Words">
              <input
                className={INPUT}
                maxLength={120}
                value={settings.words}
                onChange={(event) => change({ words: event.target.value })}
              />
            </Field>
          ) : (
            <Field label={watermark?.picture ? "Another picture" : "Picture"}>
              <input
                type="file"
                accept="image/png,image/webp"
                className={INPUT}
                onChange={(event) => setPicture(event.target.files?.[0] ?? null)}
              />
            </Field>
          )}
          <fieldset>
            <legend className="mb-1 text-sm font-semibold">Where</legend>
            <div className="grid w-fit grid-cols-3 gap-1">
              {PLACES.map((place) => (
                <button
                  key={place}
                  type="button"
                  aria-label={place.replace("-", " ")}
                  aria-pressed={settings.place === place}
                  onClick={() => change({ place })}
                  className={`h-8 w-8 rounded-[3px] border ${settings.place === place ? "border-plum bg-plum" : "border-line bg-surface hover:border-plum"}`}
                />
              ))}
            </div>
          </fieldset>
          <Measures settings={settings} change={change} />
          <fieldset className="space-y-2">
            <legend className="mb-1 text-sm font-semibold">On which files</legend>
            <Tick
              label="The site’s own files"
              hint="Originals, and the renditions that the site makes."
              on={settings.originals}
              onChange={(originals) => change({ originals })}
            />
            <Tick
              label="All sizes"
              on={settings.sizes === null}
              onChange={(all) => change({ sizes: all ? null : [] })}
            />
            {settings.sizes !== null &&
              (sizes.data ?? []).map((size) => (
                <div key={size.name} className="ml-6">
                  <Tick
                    label={size.name}
                    on={settings.sizes!.includes(size.name)}
                    onChange={(on) =>
                      change({
                        sizes: on
                          ? [...settings.sizes!, size.name]
                          : settings.sizes!.filter((one) => one !== size.name),
                      })
                    }
                  />
                </div>
              ))}
            <Field label="Only in this folder">
              <input
                className={INPUT}
                value={settings.when.folder ?? ""}
                onChange={(event) =>
                  change({ when: { ...settings.when, folder: event.target.value || null } })
                }
              />
            </Field>
          </fieldset>
        </div>
      </Card>
      <div className="space-y-5">
        <Look
          library={library}
          settings={wanted}
          source={
            kind === "picture"
              ? (picture ??
                (watermark?.picture
                  ? watermarkUrl(library.slug, watermark.name, `${watermark.width}x${watermark.height}`)
                  : null))
              : null
          }
        />
        <Card>
          {save.isError && (
            <div className="mb-3">
              <ErrorNote error={save.error} />
            </div>
          )}
          <div className="flex flex-wrap gap-2">
            <Button
              type="submit"
              look="main"
              disabled={!right || (kind === "words" && !settings.words.trim())}
              busy={save.isPending}
            >
              Save
            </Button>
            <Button onClick={() => onDone(null)}>Close</Button>
            {watermark && (
              <Button look="danger" onClick={() => setRemoving(true)}>
                <Trash2 size={16} />
                Remove
              </Button>
            )}
          </div>
          <p className="mt-2 text-xs text-quiet">
            {save.isSuccess
              ? "Saved. The next run lays it over."
              : "Saving changes no picture: the next run adds the watermark, from the originals."}
          </p>
        </Card>
      </div>
      {watermark && (
        <Confirm
          open={removing}
          onClose={() => setRemoving(false)}
          title={`Remove ${watermark.name}`}
          action="Remove it"
          busy={remove.isPending}
          error={remove.error}
          onConfirm={() => remove.mutate(watermark.name, { onSuccess: () => onDone(null) })}
        >
          <p>
            The next run makes the files with this watermark again without it. They will have the same bytes
            as before it.
          </p>
        </Confirm>
      )}
    </form>
  );
}

function Measures({ settings, change }: { settings: WatermarkSettings; change: Change }) {
  const percent = (value: number) => Math.round(value * 100);
  return (
    <div className="grid gap-3 sm:grid-cols-2">
      <Slider
        label="Width"
        words={`${percent(settings.width)} % of the picture’s`}
        value={percent(settings.width)}
        least={2}
        most={100}
        onChange={(value) => change({ width: value / 100 })}
      />
      <Slider
        label="Opacity"
        words={`${percent(settings.opacity)} %`}
        value={percent(settings.opacity)}
        least={5}
        most={100}
        onChange={(value) => change({ opacity: value / 100 })}
      />
      <Slider
        label="Margin"
        words={`${percent(settings.margin)} % of the shorter side`}
        value={percent(settings.margin)}
        least={0}
        most={40}
        onChange={(value) => change({ margin: value / 100 })}
      />
      <Field label="Left out where narrower than" hint="A watermark that cannot be read is none.">
        <NumberInput
          label="Least width"
          unit="pixels"
          min={8}
          max={4000}
          value={settings.least}
          onChange={(least) => change({ least: least ?? 60 })}
        />
      </Field>
      <Field label="Tone">
        <Select
          label="Tone"
          className="w-full"
          value={settings.tone}
          options={[
            { value: "under", name: "Light or dark, whichever stands out" },
            { value: "light", name: "Light" },
            { value: "dark", name: "Dark" },
            { value: "own", name: "Its own colours" },
          ]}
          onChange={(to) => change({ tone: to as WatermarkSettings["tone"] })}
        />
      </Field>
    </div>
  );
}

export function Slider({
  label,
  words,
  value,
  least,
  most,
  step = 1,
  onChange,
}: {
  label: string;
  words: string;
  value: number;
  least: number;
  most: number;
  step?: number;
  onChange: (value: number) => void;
}) {
  return (
    <label className="block text-sm">
      <span className="flex justify-between gap-2">
        <span className="font-semibold">{label}</span>
        <span className="text-quiet tabular-nums">{words}</span>
      </span>
      <input
        type="range"
        aria-label={label}
        className="w-full accent-plum"
        min={least}
        max={most}
        step={step}
        value={value}
        onChange={(event) => onChange(Number(event.target.value))}
      />
    </label>
  );
}

/** The watermark over some of the library's pictures, drawn here: where and how large it will be. */
function Look({
  library,
  settings,
  source,
}: {
  library: Library;
  settings: WatermarkSettings;
  source: File | string | null;
}) {
  const pictures = useSomePictures(library.slug);
  const [url, setUrl] = useState<string | null>(null);
  useEffect(() => {
    if (source === null || typeof source === "string") {
      setUrl(source);
      return;
    }
    const made = URL.createObjectURL(source);
    setUrl(made);
    return () => URL.revokeObjectURL(made);
  }, [source]);
  const some = (pictures.data ?? []).slice(0, 2);
  const [down, across] = [
    settings.place.startsWith("top") ? "top" : settings.place.startsWith("bottom") ? "bottom" : "middle",
    settings.place.endsWith("left") ? "left" : settings.place.endsWith("right") ? "right" : "middle",
  ];
  const margin = `${settings.margin * 100}cqmin`;
  if (pictures.isPending) return <Shape className="h-64" />;
  if (some.length === 0) return null;
  return (
    <Card title="How it looks" aside="about so">
      <div className="space-y-3">
        {some.map((picture) => (
          <div
            key={picture.id}
            className="relative overflow-hidden rounded-[5px]"
            style={{ containerType: "size", aspectRatio: `${picture.width} / ${picture.height}` }}
          >
            <img
              src={previewUrl(picture.original_id, 640, picture.bytes_now)}
              alt={picture.name}
              className="h-full w-full object-cover"
            />
            <div
              className="absolute inset-0 flex"
              style={{
                padding: margin,
                opacity: settings.opacity,
                alignItems: { top: "flex-start", bottom: "flex-end", middle: "center" }[down],
                justifyContent: { left: "flex-start", right: "flex-end", middle: "center" }[across],
              }}
            >
              {settings.words ? (
                <span
                  className={`block whitespace-nowrap text-center font-semibold leading-none ${settings.tone === "dark" ? "text-black" : "text-white"}`}
                  style={{
                    width: `${settings.width * 100}cqw`,
                    fontSize: `${(settings.width * 190) / Math.max(settings.words.length, 2)}cqw`,
                  }}
                >
                  {settings.words}
                </span>
              ) : (
                url && (
                  <img
                    src={url}
                    alt="The watermark"
                    style={{
                      width: `${settings.width * 100}cqw`,
                      filter: {
                        light: "brightness(0) invert(1)",
                        dark: "brightness(0)",
                        own: "none",
                        under: "brightness(0) invert(1)",
                      }[settings.tone],
                    }}
                  />
                )
              )}
            </div>
          </div>
        ))}
      </div>
    </Card>
  );
}
