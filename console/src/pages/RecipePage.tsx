/** The recipe: how pictures are treated, the rules for some, and what a change would do before it is saved. */

import { ArrowDown, ArrowUp, Plus, Trash2 } from "lucide-react";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import type { Effect, Library, Recipe, RecipeSettings, Rule } from "../api/client";
import { useEffectOf, useFolders, useFormats, useRecipe, useSaveRecipe } from "../api/queries";
import { count, LEVELS, many, when, type LevelName } from "../look/words";
import { LevelChoice } from "../parts/LevelChoice";
import { RecipeMerge } from "../parts/RecipeMerge";
import { TrayCard } from "../parts/TrayCard";
import { MetadataChoice } from "../parts/MetadataChoice";
import { Button, Card, ErrorNote, Field, INPUT, Mind, NumberInput, Shape, Tick } from "../parts/ui";
import { Select } from "../parts/Select";

type Change = (part: Partial<RecipeSettings>) => void;

export function RecipePage({ library }: { library: Library }) {
  const recipe = useRecipe(library.slug);
  if (recipe.isPending) return <Shape className="h-96" />;
  if (recipe.isError) return <ErrorNote error={recipe.error} again={() => void recipe.refetch()} />;
  return <Editor key={library.slug} library={library} newest={recipe.data} />;
}

/** What was typed lives in fields that begin anew with another version; one that somebody else saves meanwhile
 * takes nothing that was typed away. */
function Editor({ library, newest }: { library: Library; newest: Recipe }) {
  const [from, setFrom] = useState({ recipe: newest, settings: newest.settings, turn: 0 });
  const begin = (recipe: Recipe, settings = recipe.settings) =>
    setFrom({ recipe, settings, turn: from.turn + 1 });
  return (
    <Settings
      key={from.turn}
      library={library}
      recipe={from.recipe}
      initial={from.settings}
      newest={newest}
      begin={begin}
    />
  );
}

interface Edited {
  library: Library;
  /** What is changed. */
  recipe: Recipe;
  /** The version in use, by whomever. */
  newest: Recipe;
  /** Goes on with a version, or with other settings as a change of it. */
  begin: (from: Recipe, settings?: RecipeSettings) => void;
}

function Settings({ library, recipe, initial, newest, begin }: Edited & { initial: RecipeSettings }) {
  const [settings, setSettings] = useState(initial);
  const change: Change = (part) => setSettings((now) => ({ ...now, ...part }));
  return (
    <div className="grid gap-5 lg:grid-cols-[minmax(0,1fr)_minmax(0,22rem)]">
      <div className="space-y-5">
        <Card
          title="Level and copies"
          aside={`version ${recipe.version}, saved by ${recipe.by}, ${when(recipe.created_at)}`}
        >
          <LevelChoice
            level={settings.level}
            onLevel={(level) => change({ level })}
            copies={settings.copies}
            onCopies={(copies) => change({ copies })}
          />
          <div className="mt-3">
            <Tick
              label="Keep copies that are no smaller"
              on={settings.keep_larger_copies}
              onChange={(on) => change({ keep_larger_copies: on })}
            />
            <Tick
              label="Leaner copies for visitors who ask for less data"
              hint="Of pictures on weighed pages, at the level below; browsers ask by Save-Data or prefers-reduced-data."
              on={settings.save_data}
              onChange={(on) => change({ save_data: on })}
            />
          </div>
        </Card>
        <TrayCard library={library} settings={settings} />
        <Files settings={settings} change={change} />
        <Metadata settings={settings} change={change} />
        <Conversions settings={settings} change={change} />
        <Rules library={library} settings={settings} change={change} />
      </div>
      <Outcome library={library} recipe={recipe} newest={newest} begin={begin} settings={settings} />
    </div>
  );
}

function Files({ settings, change }: { settings: RecipeSettings; change: Change }) {
  const { largest, sharpening, fixed_quality: fixed } = settings;
  const { formats } = useFormats();
  return (
    <Card title="Files and sizes">
      <div className="space-y-4">
        <Tick
          label="Originals"
          hint="The files that were uploaded."
          on={settings.originals}
          onChange={(originals) => change({ originals })}
        />
        <Field label="Renditions" hint="The sizes derived from an original.">
          <Select
            label="Renditions"
            className="w-full"
            value={settings.renditions}
            options={[
              { value: "all", name: "All of them" },
              { value: "chosen", name: "Only chosen sizes" },
              { value: "none", name: "None" },
            ]}
            onChange={(to) => change({ renditions: to as RecipeSettings["renditions"] })}
          />
        </Field>
        {settings.renditions === "chosen" && (
          <Field label="Chosen sizes" hint="Width and height, such as 300x200, with commas between.">
            <input
              className={INPUT}
              defaultValue={settings.chosen_sizes.join(", ")}
              onBlur={(event) => change({ chosen_sizes: event.target.value.split(/[\s,]+/).filter(Boolean) })}
            />
          </Field>
        )}
        <fieldset>
          <legend className="mb-1 text-sm font-semibold">Fit originals into</legend>
          <div className="flex flex-wrap items-center gap-2">
            <NumberInput
              label="Largest width"
              value={largest.width || null}
              onChange={(width) => change({ largest: { ...largest, width: width ?? 0 } })}
            />
            <span className="text-quiet">by</span>
            <NumberInput
              label="Largest height"
              unit="pixels"
              value={largest.height || null}
              onChange={(height) => change({ largest: { ...largest, height: height ?? 0 } })}
            />
          </div>
          <p className="mt-1 text-xs text-quiet">
            Proportions are kept and nothing is enlarged. Empty: no limit.
          </p>
          {(largest.width > 0 || largest.height > 0) && (
            <div className="mt-2">
              <Tick
                label="Also originals that were there before"
                hint="Otherwise only those that arrive from now on."
                on={largest.existing}
                onChange={(existing) => change({ largest: { ...largest, existing } })}
              />
            </div>
          )}
        </fieldset>
        <fieldset>
          <legend className="mb-1 text-sm font-semibold">Sharpening</legend>
          <Tick
            label="Sharpen every picture"
            hint="Otherwise only those that are made smaller. Not at the exact level; one number for all is rarely right."
            on={settings.sharpen_all}
            onChange={(sharpen_all) =>
              change({
                sharpen_all,
                sharpening: sharpen_all && !sharpening.amount ? { ...sharpening, amount: 0.5 } : sharpening,
              })
            }
          />
          {(settings.sharpen_all || largest.width > 0 || largest.height > 0) && (
            <div className="mt-2 space-y-2">
              <div className="flex flex-wrap items-center gap-2 text-sm">
                Sharpen by
                <NumberInput
                  label="Amount of sharpening"
                  max={5}
                  width="w-20"
                  value={sharpening.amount}
                  onChange={(amount) => change({ sharpening: { ...sharpening, amount: amount ?? 0 } })}
                />
                within
                <NumberInput
                  label="Radius of sharpening"
                  unit="pixels, above"
                  width="w-20"
                  value={sharpening.radius}
                  onChange={(radius) => change({ sharpening: { ...sharpening, radius: radius ?? 0.6 } })}
                />
                <NumberInput
                  label="Threshold of sharpening"
                  width="w-20"
                  value={sharpening.threshold}
                  onChange={(threshold) =>
                    change({ sharpening: { ...sharpening, threshold: threshold ?? 0 } })
                  }
                />
              </div>
            </div>
          )}
        </fieldset>
        <Field label="Effort" hint="More effort finds smaller files and takes longer.">
          <Select
            label="Effort"
            className="w-full"
            value={settings.effort}
            options={[
              { value: "quick", name: "Quick" },
              { value: "normal", name: "Normal" },
              { value: "thorough", name: "Thorough, several times slower" },
            ]}
            onChange={(to) => change({ effort: to as RecipeSettings["effort"] })}
          />
        </Field>
        <details>
          <summary className="cursor-pointer text-sm font-semibold text-plum">
            Fix the encoders’ qualities instead
          </summary>
          <p className="mt-1 text-xs text-quiet">
            The level aims at a score for each picture. A fixed quality does not: some pictures then look
            worse, others are larger than need be.
          </p>
          <div className="mt-2 flex flex-wrap gap-4">
            {formats
              .filter((format) => format.knob)
              .map(({ name, label }) => (
                <label key={name} className="flex items-center gap-2 text-sm">
                  {label}
                  <NumberInput
                    label={`Quality of ${label}`}
                    min={1}
                    max={100}
                    width="w-20"
                    value={fixed[name as keyof typeof fixed]}
                    onChange={(value) => change({ fixed_quality: { ...fixed, [name]: value } })}
                  />
                </label>
              ))}
          </div>
        </details>
      </div>
    </Card>
  );
}

function Metadata({ settings, change }: { settings: RecipeSettings; change: Change }) {
  return (
    <Card title="Metadata that files keep">
      <MetadataChoice kept={settings.metadata} onChange={(metadata) => change({ metadata })} />
      <div className="mt-3">
        <Tick
          label="Clear hidden colour"
          hint="The colour under full transparency, which nobody sees."
          on={settings.clear_hidden}
          onChange={(clear_hidden) => change({ clear_hidden })}
        />
      </div>
      <p className="mt-3 text-xs text-quiet">
        Orientation and colour profile always stay; embedded thumbnails never do.
      </p>
    </Card>
  );
}

function Conversions({ settings, change }: { settings: RecipeSettings; change: Change }) {
  const { conversions } = settings;
  const set = (part: Partial<typeof conversions>) => change({ conversions: { ...conversions, ...part } });
  const any =
    conversions.photographs_to_jpeg ||
    conversions.flat_to_png ||
    conversions.gif_to_png ||
    conversions.for_the_web;
  return (
    <Card title="Other formats for the file itself">
      <div className="space-y-3">
        <Tick
          label="Photographic PNGs to JPEG"
          hint="Opaque ones, where a fifth or more is saved."
          on={conversions.photographs_to_jpeg}
          onChange={(on) => set({ photographs_to_jpeg: on })}
        />
        <Tick
          label="Flat JPEGs to PNG"
          on={conversions.flat_to_png}
          onChange={(on) => set({ flat_to_png: on })}
        />
        <Tick
          label="Still GIFs to PNG"
          on={conversions.gif_to_png}
          onChange={(on) => set({ gif_to_png: on })}
        />
        <Tick
          label="TIFF, HEIF and BMP for the web"
          hint="A JPEG or PNG beside them, upright, with its copies: browsers show those."
          on={conversions.for_the_web}
          onChange={(on) => set({ for_the_web: on })}
        />
        <Field
          label="Pictures in documents (PDF)"
          hint="At most so many pixels to the inch where they are shown largest; empty leaves their size. 200 suits screens and most printers."
        >
          <NumberInput
            label="Pixels to the inch in documents"
            unit="pixels to the inch"
            max={1200}
            value={settings.document_ppi || null}
            onChange={(ppi) => change({ document_ppi: ppi ?? 0 })}
          />
        </Field>
        {any && (
          <Field
            label="The first file"
            hint="Its backup stays in any case, and putting it back removes the other."
          >
            <Select
              label="The first file"
              className="w-full"
              value={conversions.first_file}
              options={[
                { value: "keep", name: "stays under its name" },
                { value: "remove", name: "is removed: pages must be sent to the new name" },
              ]}
              onChange={(to) => set({ first_file: to as typeof conversions.first_file })}
            />
          </Field>
        )}
      </div>
    </Card>
  );
}

function Rules({
  library,
  settings,
  change,
}: {
  library: Library;
  settings: RecipeSettings;
  change: Change;
}) {
  const { rules } = settings;
  const set = (index: number, rule: Rule) =>
    change({ rules: rules.map((one, place) => (place === index ? rule : one)) });
  const move = (index: number, by: number) => {
    const order = [...rules];
    const [rule] = order.splice(index, 1);
    if (rule) order.splice(index + by, 0, rule);
    change({ rules: order });
  };
  const fresh = {
    name: `Rule ${rules.length + 1}`,
    when: { folder: "" },
    leave: false,
    how: { level: settings.level },
  } as unknown as Rule;
  return (
    <Card title="Rules" aside="the first that fits a file decides about it">
      {rules.length === 0 && (
        <p className="mb-3 text-quiet">
          None: the recipe holds for every file. A rule leaves some files alone, or gives them another level.
        </p>
      )}
      <ol className="space-y-3">
        {rules.map((rule, index) => (
          <li key={index} className="rounded-[5px] border border-line p-3">
            <div className="mb-3 flex items-center gap-2">
              <input
                aria-label="Name of the rule"
                className={INPUT}
                value={rule.name}
                onChange={(event) => set(index, { ...rule, name: event.target.value })}
              />
              <Button
                look="quiet"
                aria-label="Earlier"
                disabled={index === 0}
                onClick={() => move(index, -1)}
              >
                <ArrowUp size={16} />
              </Button>
              <Button
                look="quiet"
                aria-label="Later"
                disabled={index === rules.length - 1}
                onClick={() => move(index, 1)}
              >
                <ArrowDown size={16} />
              </Button>
              <Button
                look="quiet"
                aria-label={`Remove the rule ${rule.name}`}
                onClick={() => change({ rules: rules.filter((_, place) => place !== index) })}
              >
                <Trash2 size={16} />
              </Button>
            </div>
            <RuleFields slug={library.slug} rule={rule} onChange={(next) => set(index, next)} />
          </li>
        ))}
      </ol>
      <Button className="mt-3" onClick={() => change({ rules: [...rules, fresh] })}>
        <Plus size={16} /> Add a rule
      </Button>
    </Card>
  );
}

function RuleFields({ slug, rule, onChange }: { slug: string; rule: Rule; onChange: (rule: Rule) => void }) {
  const folders = useFolders(slug);
  const { treated } = useFormats();
  const { when: about } = rule;
  const set = (part: Partial<typeof about>) => onChange({ ...rule, when: { ...about, ...part } });
  const then = rule.leave ? "leave" : (rule.how.level ?? "everyday");
  return (
    <div className="grid gap-3 text-sm sm:grid-cols-2">
      <Field label="In the folder">
        <input
          className={INPUT}
          list={`folders-${slug}`}
          value={about.folder ?? ""}
          placeholder="any"
          onChange={(event) => set({ folder: event.target.value || null })}
        />
      </Field>
      <datalist id={`folders-${slug}`}>
        {folders.data?.map((one) => (
          <option key={one} value={one} />
        ))}
      </datalist>
      <Field label="Named" hint="with * and ?">
        <input
          className={INPUT}
          value={about.name ?? ""}
          placeholder="any"
          onChange={(event) => set({ name: event.target.value || null })}
        />
      </Field>
      <Field label="Format">
        <Select
          label="Format"
          className="w-full"
          value={about.formats?.[0] ?? ""}
          options={[
            { value: "", name: "any" },
            ...treated.map(({ name, label }) => ({ value: name, name: label })),
          ]}
          onChange={(to) => set({ formats: to ? [to] : null })}
        />
      </Field>
      <Field label="Transparency">
        <Select
          label="Transparency"
          className="w-full"
          value={about.transparent == null ? "" : String(about.transparent)}
          options={[
            { value: "", name: "any" },
            { value: "true", name: "transparent" },
            { value: "false", name: "opaque" },
          ]}
          onChange={(to) => set({ transparent: to === "" ? null : to === "true" })}
        />
      </Field>
      <div>
        <span className="mb-1 block font-semibold">Size</span>
        <NumberInput
          label="At least so many kilobytes"
          unit="kB or more"
          width="w-24"
          value={about.larger_than == null ? null : about.larger_than / 1000}
          onChange={(value) => set({ larger_than: value == null ? null : Math.round(value * 1000) })}
        />
        <div className="mt-1">
          <NumberInput
            label="Less than so many kilobytes"
            unit="kB at most"
            width="w-24"
            value={about.smaller_than == null ? null : about.smaller_than / 1000}
            onChange={(value) => set({ smaller_than: value == null ? null : Math.round(value * 1000) })}
          />
        </div>
      </div>
      <Field label="Then">
        <Select
          label="Then"
          className="w-full"
          value={then}
          options={[
            { value: "leave", name: "leave alone" },
            ...Object.entries(LEVELS).map(([key, { name }]) => ({
              value: key,
              name: `treat at the level ${name}`,
            })),
          ]}
          onChange={(to) =>
            onChange({
              ...rule,
              leave: to === "leave",
              how: (to === "leave" ? {} : { ...rule.how, level: to as LevelName }) as Rule["how"],
            })
          }
        />
      </Field>
    </div>
  );
}

function Outcome({ library, recipe, newest, begin, settings }: Edited & { settings: RecipeSettings }) {
  const same = JSON.stringify(recipe.settings) === JSON.stringify(settings);
  const effect = useEffectOf(library.slug, settings);
  const save = useSaveRecipe(library.slug);
  const overtaken = newest.version !== recipe.version;
  useEffect(() => {
    if (overtaken && same) begin(newest);
  }, [overtaken, same, begin, newest]);
  return (
    <aside className="space-y-4 lg:sticky lg:top-20 lg:self-start">
      <Card title={same ? "What the next run does" : "What this would do"}>
        {effect.isPending && <Shape className="h-32" />}
        {effect.isError && <ErrorNote error={effect.error} />}
        {effect.data && <EffectList effect={effect.data} />}
        {save.isError && !overtaken && (
          <div className="mt-3">
            <ErrorNote error={save.error} />
          </div>
        )}
        {overtaken && !same && !save.isPending && (
          <RecipeMerge
            base={recipe}
            mine={settings}
            theirs={newest}
            onTake={(taken) => begin(newest, taken)}
          />
        )}
        <div className="mt-4 flex flex-wrap gap-2">
          <Button
            look="main"
            disabled={same || overtaken || effect.isError}
            busy={save.isPending}
            onClick={() =>
              save.mutate({ settings, basedOn: recipe.version }, { onSuccess: (saved) => begin(saved) })
            }
          >
            Save as version {newest.version + 1}
          </Button>
          {!same && <Button onClick={() => begin(newest)}>Discard</Button>}
        </div>
        <p className="mt-3 text-sm text-quiet">
          Saving treats nothing.{" "}
          <Link className="text-plum underline" to={`/l/${library.slug}/treat`}>
            Start a run
          </Link>{" "}
          when you are ready. Pictures are always made again from their backups, never from an earlier result.
        </p>
      </Card>
      {settings.conversions.first_file === "remove" && !library.automation.backups && (
        <Mind>Backups are off, so first files are kept whatever the recipe says.</Mind>
      )}
    </aside>
  );
}

function EffectList({ effect }: { effect: Effect }) {
  const lines: [string, number][] = [
    ["treated for the first time", effect.new],
    ["made again from their backups", effect.again],
    ["stay: treated with these settings already", effect.settled],
    ["left alone", effect.left_out],
  ];
  return (
    <>
      <p className="mb-2 text-sm text-quiet">Of {many(effect.files, "file")} that can be read:</p>
      <dl className="space-y-1">
        {lines.map(([what, files]) => (
          <div key={what} className="flex justify-between gap-3 border-b border-line pb-1">
            <dt>{what}</dt>
            <dd className="font-semibold tabular-nums">{count(files)}</dd>
          </div>
        ))}
        {Object.entries(effect.by_rule).map(([name, files]) => (
          <div key={name} className="flex justify-between gap-3 text-sm text-quiet">
            <dt className="truncate">rule “{name}”</dt>
            <dd className="tabular-nums">{count(files)}</dd>
          </div>
        ))}
      </dl>
      {effect.without_backup > 0 && (
        <div className="mt-3">
          <Mind>
            {many(effect.without_backup, "file")} were changed before and have no backup to start from: they
            stay as they are.
          </Mind>
        </div>
      )}
    </>
  );
}
