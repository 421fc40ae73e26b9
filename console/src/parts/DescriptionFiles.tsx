/** Descriptions out to files and in from them; metadata read for suggestions; search terms. */

import { useState } from "react";
import type { Library } from "../api/client";
import { useImport, useTakeTerms, type ImportResult } from "../api/descriptions";
import { useMay } from "../api/people";
import { underWay, useJobs, useStartJob } from "../api/queries";
import { many } from "../look/words";
import { Select } from "./Select";
import { Button, ErrorNote, Sheet } from "./ui";

export function DescriptionFiles({
  library,
  language,
  languages,
  read,
  onClose,
}: {
  library: Library;
  language: string;
  languages: string[];
  read: number;
  onClose: () => void;
}) {
  const mayEdit = useMay(library.slug)("mend");
  const [target, setTarget] = useState(languages.find((one) => one !== language) ?? language);
  const from = `/api/v1/libraries/${library.slug}/descriptions`;
  return (
    <Sheet open onClose={onClose} title="Files">
      <div className="space-y-5 text-sm">
        {mayEdit && <Reading library={library} read={read} />}
        <Part title="Out" says="A table for a spreadsheet, or a file for translators (XLIFF 2.1).">
          <div className="flex flex-wrap items-center gap-2">
            <Download href={`${from}/csv?language=${language}`}>Table ({language})</Download>
            {languages.length > 1 && (
              <>
                <Download href={`${from}/xliff?source=${language}&target=${target}`}>
                  Translation {language} to {target}
                </Download>
                <Select
                  label="Into which language"
                  className="w-28"
                  value={target}
                  options={languages
                    .filter((one) => one !== language)
                    .map((value) => ({ value, name: value }))}
                  onChange={setTarget}
                />
              </>
            )}
          </div>
        </Part>
        {mayEdit && <Import library={library} language={language} />}
        {mayEdit && <Terms library={library} />}
      </div>
    </Sheet>
  );
}

const FILE =
  "block w-full text-sm text-quiet file:mr-3 file:min-h-9 file:cursor-pointer file:rounded-[5px] file:border file:border-solid file:border-line file:bg-surface file:px-3.5 file:font-semibold file:text-ink hover:file:border-plum hover:file:text-plum";

function Part({ title, says, children }: { title: string; says: string; children: React.ReactNode }) {
  return (
    <section className="space-y-2">
      <div>
        <h3 className="font-sans font-semibold">{title}</h3>
        <p className="text-quiet">{says}</p>
      </div>
      {children}
    </section>
  );
}

function Download({ href, children }: { href: string; children: React.ReactNode }) {
  return (
    <a
      href={href}
      download
      className="inline-flex min-h-9 items-center rounded-[5px] border border-line bg-surface px-3.5 py-1.5 font-semibold hover:border-plum hover:text-plum"
    >
      {children}
    </a>
  );
}

function Reading({ library, read }: { library: Library; read: number }) {
  const jobs = useJobs(library.slug, "words");
  const start = useStartJob(library.slug, "words");
  const latest = jobs.data?.[0];
  const report = latest?.words;
  return (
    <Part
      title="What the files say themselves"
      says="Captions, headlines, titles and credits that cameras and editors wrote become suggestions."
    >
      <div className="flex flex-wrap items-center gap-3">
        <Button busy={start.isPending || underWay(latest)} onClick={() => start.mutate(undefined)}>
          {read ? "Read what is new" : "Read them"}
        </Button>
        <span className="text-quiet" aria-live="polite">
          {underWay(latest) && report
            ? `${many(report.looked_at, "picture")} read …`
            : read
              ? `${many(read, "picture")} read so far`
              : ""}
        </span>
      </div>
      {start.isError && <ErrorNote error={start.error} />}
      {latest?.state === "failed" && <ErrorNote error={new Error(latest.reason ?? "reading failed")} />}
    </Part>
  );
}

function Import({ library, language }: { library: Library; language: string }) {
  const [file, setFile] = useState<File | null>(null);
  const look = useImport(library.slug, language);
  const take = useImport(library.slug, language);
  return (
    <Part title="In" says="The same files, changed. You see what would change before it does.">
      <input
        type="file"
        aria-label="A table or a translation"
        accept=".csv,.tsv,.txt,.xlf,.xliff"
        className={FILE}
        onChange={(event) => {
          const chosen = event.target.files?.[0] ?? null;
          setFile(chosen);
          take.reset();
          look.reset();
          if (chosen) look.mutate({ file: chosen, preview: true });
        }}
      />
      {(look.isError || take.isError) && <ErrorNote error={look.error ?? take.error} />}
      {look.isPending && <p className="text-quiet">Reading it …</p>}
      {look.data && !take.data && <Told result={look.data} would />}
      {take.data && <Told result={take.data} />}
      {file && look.data && look.data.changed > 0 && !take.data && (
        <Button look="main" busy={take.isPending} onClick={() => take.mutate({ file, preview: false })}>
          Take in {many(look.data.changed, "description")}
        </Button>
      )}
    </Part>
  );
}

function Told({ result, would = false }: { result: ImportResult; would?: boolean }) {
  const { rows, changed, unchanged, refused } = result;
  return (
    <div className="space-y-2">
      <p className={would ? "font-semibold" : "font-semibold text-leaf"} aria-live="polite">
        {many(rows, "row")}: {many(changed, "description")} {would ? "would change" : "changed"}, {unchanged}{" "}
        say what is there already, {refused} refused.
      </p>
      {result.notes.map((note) => (
        <p key={note} className="text-clay">
          {note}
        </p>
      ))}
      <ul className="text-clay">
        {result.faults.map(({ line, text }) => (
          <li key={`${line}${text}`}>
            line {line}: {text}
          </li>
        ))}
      </ul>
      {would && <Before rows={result.examples} />}
    </div>
  );
}

/** Texts before and after. */
export function Before({ rows }: { rows: ImportResult["examples"] }) {
  if (rows.length === 0) return null;
  return (
    <ul className="max-h-64 divide-y divide-line overflow-y-auto rounded-[5px] border border-line text-sm">
      {rows.map((one) => (
        <li key={`${one.picture_id}${one.field}`} className="px-3 py-1.5">
          <p className="truncate font-mono text-xs text-quiet">
            {one.path}
            {one.field !== "alternative" && ` · ${one.field}`}
          </p>
          {one.before && <p className="text-quiet line-through">{one.before}</p>}
          <p>{one.after || <span className="text-quiet">nothing</span>}</p>
        </li>
      ))}
    </ul>
  );
}

function Terms({ library }: { library: Library }) {
  const take = useTakeTerms(library.slug);
  return (
    <Part
      title="Search terms"
      says="A table with the columns term and count. They stand beside a picture's texts, and a text with more than two is called a list of keywords."
    >
      <input
        type="file"
        aria-label="A table of search terms"
        accept=".csv,.tsv,.txt"
        className={FILE}
        onChange={(event) => {
          const chosen = event.target.files?.[0];
          if (chosen) take.mutate(chosen);
        }}
      />
      {take.isError && <ErrorNote error={take.error} />}
      {take.data && (
        <p className="text-leaf" aria-live="polite">
          {many(take.data.terms, "term")} kept, {take.data.refused} refused.
        </p>
      )}
    </Part>
  );
}
