/** What is said of the library's pictures in the site's pages. */

import { useState } from "react";
import type { Library } from "../api/client";
import { useChangeDelivery, usePageFaults, type Markup } from "../api/serving";
import { many, when } from "../look/words";
import { Card, Choice, Field, INPUT, NumberInput, SaveBar, Tick } from "../parts/ui";

const PLACEHOLDERS: Record<Markup["placeholder"], [string, string]> = {
  none: ["Nothing", "the ground of the page shows"],
  colour: ["Its average colour", "a declaration in the picture's style"],
  preview: ["A tiny preview", "less than 200 bytes, within the page"],
};
const ALTERNATIVES: Record<Markup["alternatives"], [string, string]> = {
  missing: ["Where a page has none", "what its author wrote stays, an empty text too"],
  all: ["Everywhere", "also over what an author wrote"],
  none: ["Nowhere", "descriptions stay here"],
};
const LISTS = {
  no_pages: ["Pages", "Paths on the site: /admin/**"],
  no_files: ["Files", "Patterns of paths in the library: brand/**"],
  no_classes: ["Classes", "Of <img> or <picture>: plain"],
  no_endings: ["Endings", "gif"],
  eager_files: ["Load at once, wherever they are", "Patterns of paths in the library: heroes/*"],
} as const;
type ListName = keyof typeof LISTS;

/** Pages that left as their authors wrote them because rewriting failed; nothing where there are none. */
function Failed({ slug }: { slug: string }) {
  const faults = usePageFaults(slug);
  if (!faults.data?.times) return null;
  const { times, since, faults: found } = faults.data;
  return (
    <Card title="Pages that could not be rewritten" aside={`since ${when(since)}`}>
      <p className="mb-3 max-w-prose text-sm">
        {many(times, "page left", "pages left")} the site as its author wrote it: visitors saw the page,
        without its light pictures. Tell us of the reason if it stays.
      </p>
      <ul className="divide-y divide-line text-sm">
        {found.slice(0, 10).map((fault) => (
          <li key={fault.page + fault.reason} className="flex flex-wrap justify-between gap-x-4 py-1.5">
            <span className="min-w-0 break-all font-mono text-xs">{fault.page}</span>
            <span className="text-quiet">
              {fault.reason} {fault.times > 1 && `(${many(fault.times, "time", "times")})`}
            </span>
          </li>
        ))}
      </ul>
    </Card>
  );
}

export function MarkupPage({ library }: { library: Library }) {
  const [markup, setMarkup] = useState(library.delivery.markup);
  const [discarded, setDiscarded] = useState(0);
  const change = useChangeDelivery(library.slug);
  const set = (part: Partial<Markup>) => setMarkup((now) => ({ ...now, ...part }));
  const same = JSON.stringify(markup) === JSON.stringify(library.delivery.markup);
  const list = (name: ListName) => (
    <Field key={name} label={LISTS[name][0]} hint={LISTS[name][1]}>
      <textarea
        key={discarded}
        rows={2}
        className={`${INPUT} font-mono`}
        defaultValue={markup[name].join("\n")}
        onChange={(event) =>
          set({
            [name]: event.target.value
              .split(/\n/)
              .map((line) => line.trim())
              .filter(Boolean),
          })
        }
      />
    </Field>
  );
  return (
    <form
      className="space-y-5"
      onSubmit={(event) => {
        event.preventDefault();
        change.mutate({ markup });
      }}
    >
      <Failed slug={library.slug} />
      <p className="max-w-prose text-sm text-quiet">
        Pages are rewritten by the middleware in the site, or by the service on request. What a page says
        already stays as it is, and everything that is not a picture of this library stays byte for byte.
      </p>
      <div className="grid gap-5 lg:grid-cols-2">
        <Card title="What is added">
          <div className="space-y-3">
            <Tick
              label="Rewrite pages"
              hint="Off: pages leave the site as its authors wrote them, whatever is ticked below."
              on={markup.rewrite}
              onChange={(rewrite) => set({ rewrite })}
            />
            <Tick
              label="<picture> elements"
              hint="A <source> for AVIF and WebP around each picture. Not needed where the server or this service chooses by what browsers accept. The site's styles may no longer fit its pictures."
              on={markup.elements}
              onChange={(elements) => set({ elements })}
            />
            <Tick
              label="Sizes"
              hint="srcset and sizes from the derived sizes there are, where the page states width and height."
              on={markup.sizes}
              onChange={(sizes) => set({ sizes })}
            />
            <Tick
              label="Width and height"
              hint="Reserves the place of pictures that state neither. The site's styles need img { height: auto }, or pictures are squashed."
              on={markup.dimensions}
              onChange={(dimensions) => set({ dimensions })}
            />
            <Tick
              label="Backgrounds"
              hint="image-set behind a background in a style attribute."
              on={markup.backgrounds}
              onChange={(backgrounds) => set({ backgrounds })}
            />
          </div>
        </Card>
        <Card title="When pictures load">
          <div className="space-y-4">
            <Tick
              label="Load pictures when they come near"
              hint="Where the page states width and height, so that nothing moves. The first large picture is fetched first."
              on={markup.lazy}
              onChange={(lazy) => set({ lazy })}
            />
            <div>
              <span className="mb-1 block text-sm font-semibold">Load at once the first</span>
              <NumberInput
                label="Pictures that load at once"
                max={100}
                unit="pictures of a page"
                value={markup.eager}
                onChange={(eager) => set({ eager: eager ?? 0 })}
              />
            </div>
            {list("eager_files")}
            <Choice
              legend="Placeholder until a picture has loaded"
              name="placeholder"
              of={PLACEHOLDERS}
              chosen={markup.placeholder}
              onChange={(placeholder) => set({ placeholder })}
            />
            <Choice
              legend="Alternative texts from the descriptions"
              name="alternatives"
              of={ALTERNATIVES}
              chosen={markup.alternatives}
              onChange={(alternatives) => set({ alternatives })}
            />
          </div>
        </Card>
        <Card title="What stays as it is" className="lg:col-span-2">
          <div className="grid gap-4 sm:grid-cols-2">
            {(["no_pages", "no_files", "no_classes", "no_endings"] as ListName[]).map(list)}
          </div>
        </Card>
      </div>
      <SaveBar
        same={same}
        change={change}
        onDiscard={() => {
          setMarkup(library.delivery.markup);
          setDiscarded(discarded + 1);
        }}
      />
    </form>
  );
}
