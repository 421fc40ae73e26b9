/** One picture and what it says, to be written with the keyboard alone. */

import { ChevronDown, ChevronRight } from "lucide-react";
import { memo, useId, useState, type KeyboardEvent } from "react";
import { Link } from "react-router";
import type { Description, Texts } from "../api/descriptions";
import { many } from "../look/words";
import { Thumb } from "./PictureGrid";
import { useDraft, type Draft } from "./useDraft";
import { Button, INPUT } from "./ui";

type Suggestion = Description["suggestions"][number];

export const SOURCES: Record<Suggestion["source"], string> = {
  "exif-caption": "the file's caption",
  "xmp-alternative": "the file's alternative text",
  "xmp-caption": "the file's caption",
  "xmp-headline": "the file's headline",
  "xmp-title": "the file's title",
  "xmp-credit": "the file's credit",
  "xmp-place": "the file's place",
  "iptc-caption": "the file's caption",
  "iptc-headline": "the file's headline",
  "iptc-title": "the file's title",
  "iptc-credit": "the file's credit",
  "iptc-place": "the file's place",
  "page-alternative": "a page's alternative text",
  "page-caption": "a page's caption",
  "page-heading": "a page's heading",
  "page-link": "a page's link",
  "file-name": "the file's name",
};

const STATES = {
  saved: "",
  typing: "",
  saving: "saving …",
  failed: "not saved",
  overtaken: "not saved",
};

/** The text fields of all rows, in order, are where the keyboard goes. */
const FIELD = "data-described";

export const DescriptionRow = memo(function DescriptionRow({
  row,
  longest,
  mayEdit,
}: {
  row: Description;
  longest: number;
  mayEdit: boolean;
}) {
  const draft = useDraft(row);
  const [open, setOpen] = useState(false);
  const faults = useId();
  // Who has said it well needs no advice.
  const wants = !draft.texts.alternative || row.faults.length > 0;
  const offered = row.suggestions.filter(
    (one) => wants && one.field === "alternative" && one.text !== draft.texts.alternative,
  );
  const take = (one: Suggestion) => {
    draft.change(
      one.field === "alternative" ? { alternative: one.text, decorative: false } : { [one.field]: one.text },
    );
    draft.flush();
  };

  const onKey = (event: KeyboardEvent<HTMLElement>) => {
    const number = event.altKey && /^Digit[1-9]$/.test(event.code) ? Number(event.code.slice(5)) : 0;
    const acts: Record<string, () => void> = {
      Enter: () => go(event.currentTarget, event.shiftKey ? -1 : 1, draft),
      ArrowDown: () => go(event.currentTarget, 1, draft),
      ArrowUp: () => go(event.currentTarget, -1, draft),
      Escape: draft.revert,
      KeyD: () => decorate(draft),
      KeyM: () => setOpen((now) => !now),
    };
    if (event.key === "Enter" || event.key === "Escape") acts[event.key]!();
    else if (event.ctrlKey && (event.key === "ArrowDown" || event.key === "ArrowUp")) acts[event.key]!();
    else if (event.altKey && (event.code === "KeyD" || event.code === "KeyM")) acts[event.code]!();
    else if (number && offered[number - 1]) take(offered[number - 1]!);
    else return;
    event.preventDefault();
  };

  const { texts } = draft;
  return (
    <li className="crate grid grid-cols-[5.5rem_minmax(0,1fr)] gap-x-4 gap-y-2 p-3 sm:grid-cols-[9rem_minmax(0,1fr)] [content-visibility:auto] [contain-intrinsic-size:auto_11rem]">
      <Link
        to={`/l/${row.library}/review/${row.picture_id}`}
        aria-label={`Look at ${row.path}`}
        tabIndex={-1}
      >
        <Thumb
          picture={{ original_id: row.original_id, bytes_now: row.bytes_now, state: "kept" }}
          width={400}
          className="aspect-[4/3] rounded-[3px]"
        />
      </Link>
      <div className="min-w-0 space-y-1.5">
        <div className="flex flex-wrap items-baseline justify-between gap-x-3 text-xs">
          <span className="min-w-0 break-all font-mono text-quiet">{row.path}</span>
          <span
            aria-live="polite"
            className={draft.state === "saved" ? "text-leaf" : draft.error ? "text-clay" : "text-quiet"}
          >
            {draft.state === "saved" && row.version > 0 ? by(row) : STATES[draft.state]}
          </span>
        </div>
        <div className="relative">
          <textarea
            {...{ [FIELD]: "" }}
            rows={2}
            aria-label={`Alternative text of ${row.path}`}
            aria-describedby={row.faults.length ? faults : undefined}
            placeholder={
              texts.decorative
                ? "decorative: passed over by those who do not see it"
                : "It says nothing yet: what does it show?"
            }
            disabled={!mayEdit}
            className={`${INPUT} resize-none pr-14 ${texts.decorative ? "italic" : ""}`}
            value={texts.alternative}
            onChange={(event) => draft.change({ alternative: event.target.value, decorative: false })}
            onKeyDown={onKey}
            onBlur={draft.flush}
          />
          <span
            aria-hidden
            className={`absolute bottom-2.5 right-3 text-xs tabular-nums ${texts.alternative.length > longest ? "text-clay" : "text-quiet"}`}
          >
            {texts.alternative.length || ""}
          </span>
        </div>
        {draft.error != null && <Unsaved draft={draft} row={row} />}
        <ul id={faults} className="space-y-0.5 text-sm text-clay">
          {row.faults
            .filter(({ rule }) => rule !== "missing")
            .map(({ rule, text }) => (
              <li key={rule}>{text}</li>
            ))}
        </ul>
        {mayEdit && offered.length > 0 && (
          <ul aria-label="Suggestions" className="flex flex-wrap gap-1.5">
            {offered.slice(0, 9).map((one, index) => (
              <li key={one.source + one.text} className="max-w-full">
                <button
                  type="button"
                  onClick={() => take(one)}
                  title={`${SOURCES[one.source]}${one.where ? `, ${one.where}` : ""} (Alt+${index + 1})`}
                  className="flex max-w-full items-baseline gap-1.5 rounded-full border border-line bg-surface px-2.5 py-0.5 text-left text-sm hover:border-plum hover:text-plum"
                >
                  <kbd className="font-mono text-[0.7rem] text-quiet">{index + 1}</kbd>
                  <span className="truncate">{one.text}</span>
                  <span className="hidden shrink-0 text-xs text-quiet md:inline">{SOURCES[one.source]}</span>
                </button>
              </li>
            ))}
          </ul>
        )}
        <div className="flex flex-wrap items-center gap-x-4 gap-y-1 text-sm">
          <label className="flex items-center gap-1.5">
            <input
              type="checkbox"
              className="h-4 w-4 accent-plum"
              checked={texts.decorative}
              disabled={!mayEdit}
              onChange={() => decorate(draft)}
            />
            decorative
          </label>
          <button
            type="button"
            aria-expanded={open}
            onClick={() => setOpen((now) => !now)}
            className="inline-flex items-center gap-1 text-plum hover:underline"
          >
            {open ? <ChevronDown size={14} aria-hidden /> : <ChevronRight size={14} aria-hidden />}
            title, caption, credit{filled(texts)}
          </button>
          <Uses uses={row.uses} />
        </div>
        {open && <More draft={draft} row={row} mayEdit={mayEdit} take={take} />}
      </div>
    </li>
  );
});

/** Saves, and goes on to the next picture's text, or back. */
function go(from: HTMLElement, by: number, draft: Draft): void {
  draft.flush();
  const attempt = (left: number) => {
    const fields = [...document.querySelectorAll<HTMLElement>(`[${FIELD}]`)];
    const next = fields[fields.indexOf(from) + by];
    next?.focus();
    next?.scrollIntoView({ block: "center" });
    // Whoever writes faster than the list is read goes on as soon as it is.
    if (!next && by > 0 && left > 0)
      setTimeout(() => document.activeElement === from && attempt(left - 1), 100);
  };
  attempt(50);
}

function decorate(draft: Draft): void {
  draft.change(draft.texts.decorative ? { decorative: false } : { decorative: true, alternative: "" });
  draft.flush();
}

const by = (row: Description) => (row.by ? `saved by ${row.by}` : "saved");

function filled({ title, caption, credit }: Texts): string {
  const there = [title, caption, credit].filter(Boolean).length;
  return there ? ` (${there})` : "";
}

function Unsaved({ draft, row }: { draft: Draft; row: Description }) {
  const overtaken = draft.state === "overtaken";
  const message = draft.error instanceof Error ? draft.error.message : String(draft.error);
  return (
    <div role="alert" className="rounded-[5px] border border-clay bg-clay-soft px-3 py-2 text-sm text-clay">
      <p>{overtaken ? `${row.by || "Somebody"} wrote meanwhile: “${row.alternative}”` : message}</p>
      <div className="mt-1.5 flex gap-2">
        <Button onClick={draft.keepMine}>{overtaken ? "Keep mine" : "Try again"}</Button>
        <Button look="quiet" onClick={draft.revert}>
          {overtaken ? "Take theirs" : "Take back what I typed"}
        </Button>
      </div>
    </div>
  );
}

function Uses({ uses }: { uses: Description["uses"] }) {
  if (uses.length === 0) return <span className="text-quiet">on no weighed page</span>;
  const silent = uses.filter((use) => use.alternative === null).length;
  return (
    <span className="min-w-0 text-quiet" title={uses.map((use) => use.address).join("\n")}>
      on {many(uses.length, "weighed page")}
      {silent > 0 && <span className="text-clay">, {silent} without an alt</span>}
    </span>
  );
}

const MORE = { title: "Title", credit: "Credit", caption: "Caption" } as const;

function More({
  draft,
  row,
  mayEdit,
  take,
}: {
  draft: Draft;
  row: Description;
  mayEdit: boolean;
  take: (one: Suggestion) => void;
}) {
  return (
    <div className="grid gap-2 sm:grid-cols-2">
      {(Object.keys(MORE) as (keyof typeof MORE)[]).map((field) => {
        const offered = row.suggestions.filter(
          (one) => one.field === field && one.text !== draft.texts[field],
        );
        return (
          <div key={field} className={field === "caption" ? "sm:col-span-2" : ""}>
            <label className="block text-sm">
              <span className="font-semibold">{MORE[field]}</span>
              <textarea
                rows={field === "caption" ? 2 : 1}
                disabled={!mayEdit}
                className={`${INPUT} mt-0.5 resize-none`}
                value={draft.texts[field]}
                onChange={(event) => draft.change({ [field]: event.target.value })}
                onBlur={draft.flush}
              />
            </label>
            {mayEdit &&
              offered.slice(0, 2).map((one) => (
                <button
                  key={one.source}
                  type="button"
                  onClick={() => take(one)}
                  className="mr-2 max-w-full truncate text-left text-sm text-plum hover:underline"
                  title={SOURCES[one.source]}
                >
                  {one.text}
                </button>
              ))}
          </div>
        );
      })}
      {row.terms.length > 0 && (
        <p className="text-sm text-quiet sm:col-span-2">
          Searched for:{" "}
          {row.terms.map(({ term, count }) => `${term} (${count.toLocaleString("en")})`).join(", ")}. One in a
          sentence helps; a list of them does not.
        </p>
      )}
    </div>
  );
}
