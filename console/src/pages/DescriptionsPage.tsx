/** What the library's pictures say to those who do not see them: a list made for writing fast. */

import { Keyboard } from "lucide-react";
import { useEffect, useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import type { Library } from "../api/client";
import {
  useDescribedSummary,
  useDescriptions,
  useDescriptionSettings,
  type DescriptionFilter,
  type DescriptionRule,
  type DescriptionsSummary,
} from "../api/descriptions";
import { useMay } from "../api/people";
import { useAtRest } from "../look/rest";
import { count, many } from "../look/words";
import { DescriptionRow } from "../parts/DescriptionRow";
import { DescribeMany } from "../parts/DescribeMany";
import { DescriptionFiles } from "../parts/DescriptionFiles";
import { DescriptionRules, RULES } from "../parts/DescriptionRules";
import { Select } from "../parts/Select";
import { Button, Empty, ErrorNote, INPUT, Shape, Sheet, Toolbar } from "../parts/ui";

type Open = "many" | "files" | "rules" | "keys" | null;

export function DescriptionsPage({ library }: { library: Library }) {
  const settings = useDescriptionSettings(library.slug);
  if (settings.isError) return <ErrorNote error={settings.error} again={() => void settings.refetch()} />;
  if (!settings.data) return <Shape className="h-96" />;
  return (
    <Descriptions library={library} languages={settings.data.languages} longest={settings.data.longest} />
  );
}

function Descriptions({
  library,
  languages,
  longest,
}: {
  library: Library;
  languages: string[];
  longest: number;
}) {
  const [params, setParams] = useSearchParams();
  const may = useMay(library.slug);
  const [open, setOpen] = useState<Open>(null);
  const language = languages.find((one) => one === params.get("language")) ?? languages[0]!;
  const filter: DescriptionFilter = useMemo(
    () => ({
      wanting: params.getAll("wanting") as DescriptionRule[],
      search: params.get("search") ?? "",
      page_id: Number(params.get("page")) || null,
    }),
    [params],
  );
  const summary = useDescribedSummary(library.slug, language);
  const change = (to: (now: URLSearchParams) => void) =>
    setParams(
      (now) => {
        to(now);
        return now;
      },
      { replace: true },
    );
  const put = (name: string, value: string) =>
    change((now) => (value ? now.set(name, value) : now.delete(name)));
  return (
    <>
      <Toolbar>
        <Search value={filter.search} onChange={(text) => put("search", text)} />
        {languages.length > 1 && (
          <Select
            label="Language"
            className="w-36"
            value={language}
            options={languages.map((value) => ({ value, name: nameOf(value) }))}
            onChange={(value) => put("language", value)}
          />
        )}
        {may("mend") && <Button onClick={() => setOpen("many")}>Many at once …</Button>}
        <Button onClick={() => setOpen("files")}>Files …</Button>
        <Button onClick={() => setOpen("rules")}>Rules …</Button>
        <Button look="quiet" aria-label="Keys" title="Keys" onClick={() => setOpen("keys")}>
          <Keyboard size={17} aria-hidden />
        </Button>
      </Toolbar>
      <div className="gap-7 lg:grid lg:grid-cols-[13.5rem_minmax(0,1fr)]">
        <aside aria-label="What is wanting" className="mb-5 lg:mb-0">
          <div className="lg:sticky lg:top-16 lg:max-h-[calc(100vh-5rem)] lg:overflow-y-auto lg:pb-4 lg:pr-3">
            {summary.data ? (
              <Wanting
                summary={summary.data}
                filter={filter}
                onRule={(rule, on) =>
                  change((now) => (on ? now.append("wanting", rule) : now.delete("wanting", rule)))
                }
                onPage={(page) => put("page", page)}
              />
            ) : summary.isError ? (
              <ErrorNote error={summary.error} again={() => void summary.refetch()} />
            ) : (
              <Shape className="h-64" />
            )}
          </div>
        </aside>
        <List
          key={`${language}?${params.toString()}`}
          library={library}
          language={language}
          filter={filter}
          longest={longest}
          mayEdit={may("mend")}
          onClear={() => change((now) => ["wanting", "page", "search"].forEach((name) => now.delete(name)))}
        />
      </div>
      {open === "many" && (
        <DescribeMany library={library} language={language} filter={filter} onClose={() => setOpen(null)} />
      )}
      {open === "files" && (
        <DescriptionFiles
          library={library}
          language={language}
          languages={languages}
          read={summary.data?.read ?? 0}
          onClose={() => setOpen(null)}
        />
      )}
      {open === "rules" && <DescriptionRules library={library} onClose={() => setOpen(null)} />}
      <Sheet open={open === "keys"} onClose={() => setOpen(null)} title="Keys">
        <dl className="grid grid-cols-[8rem_1fr] gap-y-2 text-sm">
          {KEYS.map(([key, what]) => (
            <div key={key} className="contents">
              <dt className="font-mono">{key}</dt>
              <dd>{what}</dd>
            </div>
          ))}
        </dl>
      </Sheet>
    </>
  );
}

const KEYS = [
  ["Enter", "save, and go to the next picture"],
  ["Shift+Enter", "save, and go back to the one before"],
  ["Alt+1 … 9", "take that suggestion"],
  ["Alt+D", "decorative, or not"],
  ["Alt+M", "title, caption and credit"],
  ["Escape", "back to what is saved"],
] as const;

/** A language in the console's own: "German" for de. */
export function nameOf(tag: string): string {
  try {
    return new Intl.DisplayNames("en", { type: "language" }).of(tag) ?? tag;
  } catch {
    return tag;
  }
}

function Wanting({
  summary,
  filter,
  onRule,
  onPage,
}: {
  summary: DescriptionsSummary;
  filter: DescriptionFilter;
  onRule: (rule: DescriptionRule, on: boolean) => void;
  onPage: (page: string) => void;
}) {
  const { pictures, described, decorative } = summary;
  const share = pictures ? (described + decorative) / pictures : 0;
  const [open, setOpen] = useState(false);
  const rules = (Object.keys(RULES) as DescriptionRule[]).filter((rule) => rule in summary.wanting);
  return (
    <div className="space-y-5">
      <div>
        <p className="font-serif text-3xl">{Math.floor(share * 100)} %</p>
        <p className="text-sm text-quiet">
          {count(described)} described, {count(decorative)} decorative of {many(pictures, "picture")}
        </p>
        <div className="mt-2 h-2 overflow-hidden rounded-full bg-sunken" aria-hidden>
          <div className="h-full bg-leaf" style={{ width: `${share * 100}%` }} />
        </div>
      </div>
      <Button className="lg:hidden" aria-expanded={open} onClick={() => setOpen((now) => !now)}>
        What is wanting
      </Button>
      <fieldset className={open ? "" : "hidden lg:block"}>
        <legend className="mb-1 text-sm font-semibold">Wanting</legend>
        {rules.map((rule) => (
          <label
            key={rule}
            className="flex cursor-pointer items-center gap-2 rounded py-1 text-sm hover:text-plum"
          >
            <input
              type="checkbox"
              className="h-4 w-4 shrink-0 accent-plum"
              checked={filter.wanting.includes(rule)}
              onChange={(event) => onRule(rule, event.target.checked)}
            />
            <span className="min-w-0 flex-1">{RULES[rule].name}</span>
            <span className="tabular-nums text-quiet">{count(summary.wanting[rule] ?? 0)}</span>
          </label>
        ))}
      </fieldset>
      {summary.pages.length > 0 && (
        <nav aria-label="Weighed pages" className={open ? "" : "hidden lg:block"}>
          <h2 className="mb-1 font-sans text-sm font-semibold">Weighed pages</h2>
          <ul className="max-h-64 overflow-y-auto">
            {summary.pages.map((page) => {
              const on = filter.page_id === page.page_id;
              return (
                <li key={page.page_id}>
                  <button
                    type="button"
                    aria-pressed={on}
                    title={page.address}
                    onClick={() => onPage(on ? "" : String(page.page_id))}
                    className={`flex w-full justify-between gap-2 rounded py-0.5 text-left text-sm hover:text-plum ${on ? "font-semibold text-plum" : ""}`}
                  >
                    <span className="min-w-0 truncate">{placeOf(page.address)}</span>
                    <span
                      className={`whitespace-nowrap ${page.without || page.alike ? "text-clay" : "text-quiet"}`}
                    >
                      {saidOn(page)}
                    </span>
                  </button>
                </li>
              );
            })}
          </ul>
        </nav>
      )}
    </div>
  );
}

/** What is wrong on a page, in two words. */
function saidOn({ without, alike }: DescriptionsSummary["pages"][number]): string {
  if (without) return `${without} without`;
  return alike ? `${alike} say the same` : "all say something";
}

function placeOf(address: string): string {
  try {
    return new URL(address).pathname;
  } catch {
    return address;
  }
}

function List({
  library,
  language,
  filter,
  longest,
  mayEdit,
  onClear,
}: {
  library: Library;
  language: string;
  filter: DescriptionFilter;
  longest: number;
  mayEdit: boolean;
  onClear: () => void;
}) {
  const found = useDescriptions(library.slug, language, filter);
  const end = useRef<HTMLDivElement>(null);
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = found;
  useEffect(() => {
    if (!end.current || !hasNextPage) return;
    const watcher = new IntersectionObserver(
      ([entry]) => {
        if (entry?.isIntersecting && !isFetchingNextPage) void fetchNextPage();
      },
      { rootMargin: "1200px" },
    );
    watcher.observe(end.current);
    return () => watcher.disconnect();
  }, [hasNextPage, isFetchingNextPage, fetchNextPage]);
  if (found.isError) return <ErrorNote error={found.error} again={() => void found.refetch()} />;
  if (!found.data)
    return (
      <div className="space-y-3" role="status" aria-busy="true" aria-label="Loading">
        {Array.from({ length: 4 }, (_, index) => (
          <Shape key={index} className="h-40" />
        ))}
      </div>
    );
  const rows = found.data.pages.flatMap((page) => page.rows);
  if (rows.length === 0)
    return filter.wanting.length || filter.search || filter.page_id ? (
      <Empty title="No picture wants for that" action={<Button onClick={onClear}>Show all pictures</Button>}>
        Nothing that you chose is wanting here, or nothing contains what you search for.
      </Empty>
    ) : (
      <Empty title="Nothing to describe">The library has no pictures yet: survey its folder on Look.</Empty>
    );
  return (
    <div className="min-w-0">
      <p className="mb-3 text-sm text-quiet" aria-live="polite">
        {many(found.data.pages[0]!.total, "picture")}
      </p>
      <ul className="space-y-3">
        {rows.map((row) => (
          <DescriptionRow key={row.picture_id} row={row} longest={longest} mayEdit={mayEdit} />
        ))}
      </ul>
      <div ref={end} aria-hidden className="h-4" />
    </div>
  );
}

function Search({ value, onChange }: { value: string; onChange: (text: string) => void }) {
  const [text, setText] = useState(value);
  const atRest = useAtRest(text, 350);
  const told = useRef(value);
  useEffect(() => {
    if (atRest === told.current) return;
    told.current = atRest;
    onChange(atRest);
  }, [atRest, onChange]);
  return (
    <input
      type="search"
      aria-label="Search in paths and texts"
      placeholder="Search in paths and texts"
      className={`${INPUT} sm:w-64`}
      value={text}
      onChange={(event) => setText(event.target.value)}
    />
  );
}
