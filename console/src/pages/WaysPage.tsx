/** How files get to visitors: from here, by the site's own server, through caches. */

import { Check, Copy } from "lucide-react";
import { useState } from "react";
import type { Library } from "../api/client";
import { useChangeDelivery, usePurges, useServerRules, type Delivery, type ServerKind } from "../api/serving";
import { many } from "../look/words";
import { Button, Card, ErrorNote, Field, INPUT, Mind, NumberInput, SaveBar, Shape, Tick } from "../parts/ui";

const SERVERS: Record<ServerKind, string> = { nginx: "nginx", apache: "Apache httpd", caddy: "Caddy" };

export function WaysPage({ library }: { library: Library }) {
  const [delivery, setDelivery] = useState(library.delivery);
  const [discarded, setDiscarded] = useState(0); // lists are written freely, and begin anew with each
  const change = useChangeDelivery(library.slug);
  const set = (part: Partial<Delivery>) => setDelivery((now) => ({ ...now, ...part }));
  const same = JSON.stringify(delivery) === JSON.stringify(library.delivery);
  return (
    <div className="space-y-5">
      <form
        className="space-y-5"
        onSubmit={(event) => {
          event.preventDefault();
          const { markup, ...ways } = delivery;
          change.mutate(ways);
        }}
      >
        <div className="grid gap-5 lg:grid-cols-2">
          <Card title="Where the site serves it">
            <div className="space-y-4">
              <Field
                label="Address of the library's folder"
                hint="Such as https://ledge.example/uploads. Pages, rules and checks go by it."
              >
                <input
                  type="url"
                  className={`${INPUT} font-mono`}
                  value={delivery.address ?? ""}
                  onChange={(event) => set({ address: event.target.value || null })}
                />
              </Field>
              <div>
                <span className="mb-1 block text-sm font-semibold">
                  Caches may show a picture without asking again for
                </span>
                <NumberInput
                  label="Seconds that caches may keep a picture"
                  unit="seconds"
                  width="w-32"
                  value={delivery.max_age}
                  onChange={(max_age) => set({ max_age: max_age ?? 0 })}
                />
              </div>
            </div>
          </Card>
          <Card title="From here">
            <div className="space-y-4">
              <Tick
                label="Everybody may fetch this library's pictures from this service"
                hint="Each browser gets the lightest form it can show. A copy is never shown of a file that changed."
                on={delivery.public}
                onChange={(open) => set({ public: open })}
              />
              {delivery.public && (
                <p className="break-all rounded bg-sunken px-3 py-2 font-mono text-xs">{`${globalThis.location.origin}/media/${library.slug}/…`}</p>
              )}
              <Field
                label="Address for copies in pages"
                hint="A CDN, or this service, where pages fetch copies and sizes. The file itself stays with the site. Empty: everything from the site."
              >
                <input
                  type="url"
                  className={`${INPUT} font-mono`}
                  value={delivery.base ?? ""}
                  onChange={(event) => set({ base: event.target.value || null })}
                />
              </Field>
            </div>
          </Card>
          <Card
            title="Caches"
            className="lg:col-span-2"
            aside={<Waiting slug={library.slug} on={library.delivery.caches.purge.length > 0} />}
          >
            <div className="grid gap-4 sm:grid-cols-2">
              <Field
                label="Caches to purge when a picture changes"
                hint="Their addresses, a line each. They are asked with PURGE, and again until they answer."
              >
                <textarea
                  key={discarded}
                  rows={2}
                  className={`${INPUT} font-mono`}
                  defaultValue={delivery.caches.purge.join("\n")}
                  onChange={(event) =>
                    set({
                      caches: { ...delivery.caches, purge: event.target.value.split(/\s+/).filter(Boolean) },
                    })
                  }
                />
              </Field>
              <Field
                label="Header for tags"
                hint="Answers from here carry the picture's tag in it, and PURGE names it. Empty: addresses only."
              >
                <input
                  className={`${INPUT} font-mono`}
                  value={delivery.caches.tag_header ?? ""}
                  placeholder="none"
                  onChange={(event) =>
                    set({ caches: { ...delivery.caches, tag_header: event.target.value || null } })
                  }
                />
              </Field>
            </div>
          </Card>
        </div>
        <SaveBar
          same={same}
          change={change}
          onDiscard={() => {
            setDelivery(library.delivery);
            setDiscarded(discarded + 1);
          }}
        />
      </form>
      <Rules library={library} />
    </div>
  );
}

/** What caches have yet to be told. */
function Waiting({ slug, on }: { slug: string; on: boolean }) {
  const purges = usePurges(slug);
  if (!on || !purges.data) return null;
  const { waiting, failing, said } = purges.data;
  if (!waiting) return <span className="text-leaf">All were told.</span>;
  return (
    <span className={failing ? "text-clay" : ""}>
      {many(waiting, "address waits", "addresses wait")}
      {failing > 0 && said ? `: ${said}` : ""}
    </span>
  );
}

function Rules({ library }: { library: Library }) {
  const [server, setServer] = useState<ServerKind>("nginx");
  const [copied, setCopied] = useState(false);
  const rules = useServerRules(library.slug, server, library.delivery.address);
  const choice = (
    <span className="flex gap-1" role="group" aria-label="Server">
      {(Object.keys(SERVERS) as ServerKind[]).map((kind) => (
        <Button
          key={kind}
          look={kind === server ? "main" : "quiet"}
          aria-pressed={kind === server}
          onClick={() => {
            setServer(kind);
            setCopied(false);
          }}
        >
          {SERVERS[kind]}
        </Button>
      ))}
    </span>
  );
  return (
    <Card title="By the site's own server" aside={choice}>
      <p className="mb-3 max-w-prose text-sm text-quiet">
        These rules serve the copies beside the files. Put them into the server's configuration, then check
        under Visitors. A copy stays until the change of its file is noticed here: with the folder watched or
        webhooks that takes seconds.
      </p>
      {library.delivery.address === null && (
        <Mind>First set where the site serves the library's folder.</Mind>
      )}
      {rules.isError && <ErrorNote error={rules.error} again={() => void rules.refetch()} />}
      {rules.isLoading && <Shape className="h-64" />}
      {rules.data && (
        <div className="relative">
          <Button
            className="absolute right-2 top-2"
            onClick={() => {
              void navigator.clipboard.writeText(rules.data).then(() => setCopied(true));
            }}
          >
            {copied ? <Check size={15} aria-hidden /> : <Copy size={15} aria-hidden />}
            {copied ? "Copied" : "Copy"}
          </Button>
          <pre
            // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- it scrolls, by keyboard too
            tabIndex={0}
            aria-label={`Rules for ${SERVERS[server]}`}
            className="max-h-96 overflow-auto rounded bg-sunken p-4 pr-24 font-mono text-xs leading-relaxed [font-variant-ligatures:none]"
          >
            {rules.data}
          </pre>
        </div>
      )}
    </Card>
  );
}
