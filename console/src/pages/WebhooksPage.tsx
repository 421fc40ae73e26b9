/** Webhooks both ways: whom the library tells, and how the site tells the library. */

import { useState } from "react";
import type { Library } from "../api/client";
import {
  useRedeliver,
  useSetWebhook,
  useTryWebhook,
  useWebhook,
  useWebhookSecret,
  type EventType,
  type Webhook,
} from "../api/plans";
import { useHookSecret } from "../api/queries";
import { when } from "../look/words";
import { Once } from "../parts/Once";
import { Button, Card, Empty, ErrorNote, Field, INPUT, Mind, SaveBar, Shape, Tag, Tick } from "../parts/ui";

const EVENTS: Record<Exclude<EventType, "webhook.trial">, readonly [string, string]> = {
  "files.changed": ["Files or copies changed", "with their paths: for the site's own software"],
  "descriptions.changed": ["Descriptions changed", "with the texts: for the site's own software"],
  "allowance.nearly-used": ["Four fifths of the allowance are used", "once a month"],
  "allowance.used": ["The allowance is used up", "new work waits from then on"],
  "report.ready": ["A month's report is ready", "with its figures, and where to fetch it"],
};
const NAMES = Object.keys(EVENTS) as (keyof typeof EVENTS)[];

export function WebhooksPage({ library }: { library: Library }) {
  const webhook = useWebhook(library.slug);
  return (
    <div className="grid items-start gap-5 lg:grid-cols-2">
      {webhook.isError && <ErrorNote error={webhook.error} again={() => void webhook.refetch()} />}
      {webhook.isPending && <Shape className="h-72" />}
      {webhook.data && (
        <Outgoing
          key={`${String(webhook.data.address)} ${webhook.data.events.join()}`}
          slug={library.slug}
          webhook={webhook.data}
        />
      )}
      <Incoming slug={library.slug} />
      {webhook.data && <Messages slug={library.slug} webhook={webhook.data} />}
    </div>
  );
}

function Outgoing({ slug, webhook }: { slug: string; webhook: Webhook }) {
  const held = { address: webhook.address, events: webhook.events };
  const [wanted, setWanted] = useState(held);
  const change = useSetWebhook(slug);
  const secret = useWebhookSecret(slug);
  const trial = useTryWebhook(slug);
  return (
    <Card title="What the library tells">
      <form
        className="space-y-4"
        onSubmit={(event) => {
          event.preventDefault();
          change.mutate(wanted);
        }}
      >
        <Field label="Send to" hint="An address of yours that takes POST. Empty: nothing is told.">
          <input
            className={`${INPUT} font-mono text-sm`}
            type="url"
            value={wanted.address ?? ""}
            placeholder="https://"
            onChange={(event) => setWanted({ ...wanted, address: event.target.value || null })}
          />
        </Field>
        <fieldset className="space-y-2">
          <legend className="mb-1 text-sm font-semibold">When</legend>
          {NAMES.map((name) => (
            <Tick
              key={name}
              label={EVENTS[name][0]}
              hint={EVENTS[name][1]}
              on={wanted.events.includes(name)}
              onChange={(on) =>
                setWanted({
                  ...wanted,
                  events: on ? [...wanted.events, name] : wanted.events.filter((one) => one !== name),
                })
              }
            />
          ))}
        </fieldset>
        <SaveBar
          same={JSON.stringify(wanted) === JSON.stringify(held)}
          change={change}
          onDiscard={() => setWanted(held)}
        />
      </form>
      <div className="mt-5 space-y-3 border-t border-line pt-4">
        <p className="text-sm text-quiet">
          Messages are signed by the Standard Webhooks scheme, and sent again for three days until they are
          taken.
        </p>
        {webhook.address !== null && !webhook.has_secret && !secret.data && (
          <Mind>Nothing is sent until you make a secret: messages are signed with it.</Mind>
        )}
        {secret.data && <Once label="The secret to check signatures with" value={secret.data.secret} />}
        {secret.isError && <ErrorNote error={secret.error} />}
        {trial.isError && <ErrorNote error={trial.error} />}
        <div className="flex flex-wrap gap-2">
          <Button busy={secret.isPending} onClick={() => secret.mutate()}>
            {webhook.has_secret ? "Make another secret" : "Make a secret"}
          </Button>
          <Button
            busy={trial.isPending}
            disabled={webhook.address === null || !webhook.has_secret}
            onClick={() => trial.mutate()}
          >
            Send a message to try it
          </Button>
        </div>
      </div>
    </Card>
  );
}

function Incoming({ slug }: { slug: string }) {
  const hook = useHookSecret(slug);
  return (
    <Card title="What the site tells">
      <p className="mb-3 text-sm text-quiet">
        The site can tell of uploads, changes and deletions itself, signed by the Standard Webhooks scheme. A
        new secret makes a former one worthless.
      </p>
      {hook.data ? (
        <div className="space-y-3">
          <p className="text-sm">
            Send to <code className="break-all font-mono text-xs">{hook.data.url}</code>
          </p>
          <Once label="Signed with this secret" value={hook.data.secret} />
        </div>
      ) : (
        <Button busy={hook.isPending} onClick={() => hook.mutate()}>
          Make a secret
        </Button>
      )}
      {hook.isError && (
        <div className="mt-2">
          <ErrorNote error={hook.error} />
        </div>
      )}
    </Card>
  );
}

function Messages({ slug, webhook }: { slug: string; webhook: Webhook }) {
  const again = useRedeliver(slug);
  return (
    <Card title="Latest messages" className="lg:col-span-2">
      {webhook.messages.length === 0 && (
        <Empty title="Nothing was told yet">
          Messages appear here with how they fared, and why any was not taken.
        </Empty>
      )}
      {again.isError && <ErrorNote error={again.error} />}
      <ul className="divide-y divide-line">
        {webhook.messages.map((one) => (
          <li key={one.id} className="flex flex-wrap items-baseline gap-x-4 gap-y-1 py-2.5 text-sm">
            <span className="min-w-56 flex-1">
              <span className="block font-semibold">
                {one.type === "webhook.trial" ? "To try it" : EVENTS[one.type][0]}
              </span>
              <span className="block break-all font-mono text-xs text-quiet">
                {one.type}, {one.id}
              </span>
            </span>
            <span className="text-quiet">{when(one.at)}</span>
            <span className="min-w-48">
              {one.sent_at ? (
                <Tag state="lighter">taken</Tag>
              ) : one.next_at ? (
                <Tag state="paused">
                  {one.attempts ? `tried ${String(one.attempts)} times` : "on its way"}
                </Tag>
              ) : (
                <Tag state="failed">given up</Tag>
              )}
              {!one.sent_at && one.said && (
                <span className="mt-0.5 block text-xs text-clay">
                  {one.said}
                  {one.next_at && `; again at ${when(one.next_at)}`}
                </span>
              )}
            </span>
            {one.next_at === null && (
              <Button
                busy={again.isPending && again.variables === one.id}
                onClick={() => again.mutate(one.id)}
              >
                Send again
              </Button>
            )}
          </li>
        ))}
      </ul>
    </Card>
  );
}
