/** Two versions of a recipe that came of the same one: shown side by side, and put together. */

import { useId, useState } from "react";
import type { Recipe, RecipeSettings } from "../api/client";
import { LEVELS, type LevelName } from "../look/words";
import { Button, Mind } from "./ui";

type Name = keyof RecipeSettings;
type Side = "mine" | "theirs";

const NAMES: Record<Name, string> = {
  level: "Level",
  copies: "Copies",
  keep_larger_copies: "Copies that are no smaller",
  save_data: "Leaner copies",
  metadata: "Metadata",
  conversions: "Conversions",
  largest: "Largest size",
  sharpening: "Sharpening",
  sharpen_all: "Sharpen all",
  originals: "Originals",
  renditions: "Sizes of the site",
  chosen_sizes: "Chosen sizes",
  rules: "Rules",
  effort: "Effort",
  fixed_quality: "Fixed quality",
  clear_hidden: "Hidden colours",
  document_ppi: "Pixels to the inch in documents",
};

const same = (one: unknown, other: unknown) => JSON.stringify(one) === JSON.stringify(other);

/** Settings that differ, and who changed them. */
export function differences(base: RecipeSettings, mine: RecipeSettings, theirs: RecipeSettings) {
  return (Object.keys(NAMES) as Name[])
    .filter((name) => !same(mine[name], theirs[name]))
    .map((name) => ({
      name,
      by: same(mine[name], base[name]) ? "theirs" : same(theirs[name], base[name]) ? "mine" : "both",
    }));
}

/** Their settings with what only I changed, and of what both changed, what was chosen. */
export function merged(
  base: RecipeSettings,
  mine: RecipeSettings,
  theirs: RecipeSettings,
  chosen: Partial<Record<Name, Side>>,
): RecipeSettings {
  const takes = differences(base, mine, theirs)
    .filter(({ name, by }) => by === "mine" || (by === "both" && chosen[name] !== "theirs"))
    .map(({ name }) => [name, mine[name]]);
  return { ...theirs, ...(Object.fromEntries(takes) as Partial<RecipeSettings>) };
}

export function RecipeMerge({
  base,
  mine,
  theirs,
  onTake,
}: {
  base: Recipe;
  mine: RecipeSettings;
  theirs: Recipe;
  /** Goes on with these, as a change of their version. */
  onTake: (settings: RecipeSettings) => void;
}) {
  const [chosen, setChosen] = useState<Partial<Record<Name, Side>>>({});
  const rows = differences(base.settings, mine, theirs.settings);
  const both = rows.filter(({ by }) => by === "both");
  return (
    <div className="mt-3 space-y-3">
      <Mind>
        {theirs.by} saved version {theirs.version} meanwhile. Yours is a change of version {base.version}.
      </Mind>
      <dl className="divide-y divide-line text-sm">
        {rows.map(({ name, by }) => (
          <div key={name} className="py-2">
            <dt className="font-semibold">{NAMES[name]}</dt>
            <dd>
              {by === "both" ? (
                <Sides
                  name={name}
                  mine={mine}
                  theirs={theirs}
                  side={chosen[name] ?? "mine"}
                  onSide={(side) => setChosen({ ...chosen, [name]: side })}
                />
              ) : (
                <span className="break-words text-quiet">
                  {by === "mine"
                    ? `you changed it to ${said(mine[name])}`
                    : `${theirs.by} changed it to ${said(theirs.settings[name])}`}
                </span>
              )}
            </dd>
          </div>
        ))}
      </dl>
      <div className="flex flex-wrap gap-2">
        <Button look="main" onClick={() => onTake(merged(base.settings, mine, theirs.settings, chosen))}>
          {both.length ? "Merge as chosen" : "Merge"}
        </Button>
        <Button onClick={() => onTake(theirs.settings)}>Take theirs</Button>
        <Button onClick={() => onTake(mine)}>Keep mine</Button>
      </div>
    </div>
  );
}

function Sides({
  name,
  mine,
  theirs,
  side,
  onSide,
}: {
  name: Name;
  mine: RecipeSettings;
  theirs: Recipe;
  side: Side;
  onSide: (side: Side) => void;
}) {
  const group = useId();
  const options: [Side, string][] = [
    ["mine", `yours: ${said(mine[name])}`],
    ["theirs", `${theirs.by}: ${said(theirs.settings[name])}`],
  ];
  return (
    <div role="radiogroup" aria-label={NAMES[name]} className="mt-1 space-y-1">
      {options.map(([value, words]) => (
        <label key={value} className="flex items-start gap-2">
          <input
            type="radio"
            name={group}
            className="mt-1 accent-plum"
            checked={side === value}
            onChange={() => onSide(value)}
          />
          <span className="break-words">{words}</span>
        </label>
      ))}
    </div>
  );
}

/** A setting in few words. */
function said(value: unknown): string {
  if (value === true) return "on";
  if (value === false) return "off";
  if (value === null || value === undefined) return "none";
  if (Array.isArray(value))
    return value.every((one) => typeof one === "string")
      ? value.join(", ") || "none"
      : `${value.length} of them`;
  if (typeof value === "object")
    return Object.entries(value)
      .filter(([, part]) => part !== null)
      .map(([part, of]) => `${part.replaceAll("_", " ")} ${said(of)}`)
      .join(", ");
  if (typeof value === "number") return String(value);
  return LEVELS[value as LevelName]?.name ?? (value as string);
}
