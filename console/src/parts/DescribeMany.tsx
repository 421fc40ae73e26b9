/** One change to many descriptions: what would change is seen before, and undone after. */

import { useState, type ReactNode } from "react";
import type { Library } from "../api/client";
import {
  askedFor,
  useChangeMany,
  useDescriptionChanges,
  useUndoDescriptions,
  type BulkRequest,
  type DescriptionFilter,
} from "../api/descriptions";
import { many, when } from "../look/words";
import { Before } from "./DescriptionFiles";
import { SOURCES } from "./DescriptionRow";
import { Select } from "./Select";
import { Button, ErrorNote, Field, INPUT, Sheet, Tick } from "./ui";

type Deed = BulkRequest["deed"];
type Kind = Deed["do"];
type Source = keyof typeof SOURCES;

const KINDS: { value: Kind; name: string; hint: string }[] = [
  { value: "accept", name: "Take suggestions", hint: "what files and pages say already" },
  { value: "replace", name: "Find and replace", hint: "a word that is wrong everywhere" },
  { value: "fill", name: "Fill in a pattern", hint: "for charts, postcards, series" },
  { value: "mark", name: "Say that they are decorative", hint: "empties their texts" },
];
const FIELDS = ["alternative", "title", "caption", "credit"].map((value) => ({
  value,
  name: value === "alternative" ? "alternative text" : value,
}));
/** Sources that say the same to a person are one choice. */
const TAKEN: [string, Source[]][] = [
  ["alternative texts of files", ["xmp-alternative"]],
  ["captions of files", ["xmp-caption", "iptc-caption", "exif-caption"]],
  ["headlines of files", ["xmp-headline", "iptc-headline"]],
  ["alternative texts on pages", ["page-alternative"]],
  ["captions on pages", ["page-caption"]],
  ["names of files", ["file-name"]],
];

export function DescribeMany({
  library,
  language,
  filter,
  onClose,
}: {
  library: Library;
  language: string;
  filter: DescriptionFilter;
  onClose: () => void;
}) {
  const [kind, setKind] = useState<Kind>("accept");
  const [field, setField] = useState("alternative");
  const [taken, setTaken] = useState<ReadonlySet<number>>(new Set([0, 1]));
  const [find, setFind] = useState("");
  const [replacement, setReplacement] = useState("");
  const [whole, setWhole] = useState(true);
  const [pattern, setPattern] = useState("{name}");
  const [over, setOver] = useState(false);
  const preview = useChangeMany(library.slug);
  const doing = useChangeMany(library.slug);

  const deeds: Record<Kind, Deed> = {
    accept: {
      do: "accept",
      field: field as "alternative",
      sources: TAKEN.flatMap(([, sources], index) => (taken.has(index) ? sources : [])),
      only_empty: !over,
    },
    replace: {
      do: "replace",
      field: field as "alternative",
      find,
      replacement,
      whole_words: whole,
      match_case: false,
    },
    fill: { do: "fill", field: field as "alternative", pattern, only_empty: !over },
    mark: { do: "mark", decorative: true },
  };
  const ready =
    (kind !== "accept" || taken.size > 0) &&
    (kind !== "replace" || find !== "") &&
    (kind !== "fill" || pattern !== "");
  const request = (only: boolean): BulkRequest => ({
    language,
    which: { ...askedFor(filter) },
    deed: deeds[kind],
    preview: only,
  });
  /** Whatever is set anew was not looked at yet. */
  const set =
    <T,>(to: (value: T) => void) =>
    (value: T) => {
      to(value);
      preview.reset();
      doing.reset();
    };
  const chosen = filter.wanting.length || filter.search || filter.page_id;
  return (
    <Sheet open onClose={onClose} title="Many at once">
      <div className="space-y-4">
        <p className="text-sm text-quiet">
          {chosen ? "Of the pictures that the list shows now" : "Of all pictures of the library"}. You see
          what would change before it does, and can undo it after.
        </p>
        <div className="grid gap-3 sm:grid-cols-2">
          <Field label="What">
            <Select label="What" value={kind} options={KINDS} onChange={(to) => set(setKind)(to as Kind)} />
          </Field>
          {kind !== "mark" && (
            <Field label="Which text">
              <Select label="Which text" value={field} options={FIELDS} onChange={set(setField)} />
            </Field>
          )}
        </div>
        {kind === "accept" && (
          <fieldset className="grid gap-1.5 sm:grid-cols-2">
            <legend className="mb-1 text-sm font-semibold">From</legend>
            {TAKEN.map(([name], index) => (
              <Tick
                key={name}
                label={name}
                on={taken.has(index)}
                onChange={(on) => {
                  const next = new Set(taken);
                  if (on) next.add(index);
                  else next.delete(index);
                  set(setTaken)(next);
                }}
              />
            ))}
          </fieldset>
        )}
        {kind === "replace" && (
          <div className="grid gap-3 sm:grid-cols-2">
            <Text label="Find" value={find} onChange={set(setFind)} />
            <Text label="Replace with" value={replacement} onChange={set(setReplacement)} />
            <Tick label="Whole words only" on={whole} onChange={set(setWhole)} />
          </div>
        )}
        {kind === "fill" && (
          <Text
            label="Pattern"
            value={pattern}
            onChange={set(setPattern)}
            hint="{name} {folder} {n} {title} {caption} {credit} {place}: a picture without one of those is left as it is."
          />
        )}
        {(kind === "accept" || kind === "fill") && (
          <Tick label="Also where there is a text already" on={over} onChange={set(setOver)} />
        )}
        {(preview.isError || doing.isError) && <ErrorNote error={preview.error ?? doing.error} />}
        {preview.data && !doing.data && (
          <>
            <p className="font-semibold" aria-live="polite">
              {many(preview.data.changed, "description")} would change,{" "}
              {many(preview.data.unchanged, "stays", "stay")} as
              {preview.data.unchanged === 1 ? " it is" : " they are"}.
            </p>
            <Before rows={preview.data.examples} />
          </>
        )}
        {doing.data && (
          <p className="font-semibold text-leaf" aria-live="polite">
            {many(doing.data.changed, "description")} changed.
          </p>
        )}
        <div className="flex justify-end gap-2">
          <Button
            disabled={!ready}
            busy={preview.isPending}
            onClick={() => {
              doing.reset();
              preview.mutate(request(true));
            }}
          >
            Show what would change
          </Button>
          <Button
            look="main"
            disabled={!preview.data?.changed || doing.data !== undefined}
            busy={doing.isPending}
            onClick={() => doing.mutate(request(false))}
          >
            Change {preview.data ? many(preview.data.changed, "description") : "them"}
          </Button>
        </div>
        <Changes library={library} />
      </div>
    </Sheet>
  );
}

function Text({
  label,
  value,
  onChange,
  hint,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  hint?: ReactNode;
}) {
  return (
    <Field label={label} hint={hint}>
      <input className={INPUT} value={value} onChange={(event) => onChange(event.target.value)} />
    </Field>
  );
}

/** What was changed lately, to be undone. */
function Changes({ library }: { library: Library }) {
  const changes = useDescriptionChanges(library.slug, true);
  const undo = useUndoDescriptions(library.slug);
  if (!changes.data?.length) return null;
  return (
    <section className="border-t border-line pt-3">
      <h3 className="mb-1 font-sans text-sm font-semibold">Changed lately</h3>
      {undo.isError && <ErrorNote error={undo.error} />}
      {undo.data && undo.data.kept > 0 && (
        <p className="text-sm text-quiet">
          {many(undo.data.kept, "description")} had been changed again since and stayed.
        </p>
      )}
      <ul className="max-h-40 divide-y divide-line overflow-y-auto text-sm">
        {changes.data.slice(0, 20).map((one) => (
          <li key={one.id} className="flex items-center justify-between gap-3 py-1">
            <span className="min-w-0">
              {one.by || "Somebody"} {one.what}: {many(one.pictures, "picture")}
              <span className="text-quiet">, {when(one.at)}</span>
            </span>
            {one.undone_at ? (
              <span className="text-quiet">undone</span>
            ) : (
              <Button
                look="quiet"
                busy={undo.isPending && undo.variables === one.id}
                onClick={() => undo.mutate(one.id)}
              >
                Undo
              </Button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
