/** Webhooks both ways: whom the library tells, and how the site tells the library. */

import { useState } from "react";
import type { Library } from "../api/client";
import {
  useAddWebhook,
  useWebhook,
  useWebhooks,
  type EventType,
  type Webhook,
  type WebhookSettings,
} from "../api/plans";
import { useHookSecret } from "../api/queries";
import { when } from "../look/words";
import { Once } from "../parts/Once";
import {
  Button,
  Card,
  Confirm,
  Empty,
  ErrorNote,
  Field,
  INPUT,
  Mind,
  SaveBar,
  Shape,
  Tag,
  Tick,
} from "../parts/ui";

const EVENTS: Record<Exclude<EventType, "webhook.trial">, readonly [string, string]> = {
  "files.changed": ["Files or copies changed", "with their paths: for the site's own software"],
  "descriptions.changed": ["Descriptions changed", "with the texts: for the site's own software"],
  "allowance.nearly-used": ["Four fifths of the allowance are used", "once a month"],
  "allowance.used": ["The allowance is used up", "new work waits from then on"],
  "report.ready": ["A month's report is ready", "with its figures, and where to fetch it"],
};
const NAMES = Object.keys(EVENTS) as (keyof typeof EVENTS)[];
const FRESH: WebhookSettings = {
  address: "",
  events: ["allowance.nearly-used", "allowance.used", "report.ready"],
};

export function WebhooksPage({ library }: { library: Library }) {
  const { slug } = library;
  const webhooks = useWebhooks(slug);
  const [secrets, setSecrets] = useState<Record<number, string>>({});
  const shown = (id: number, secret: string) => setSecrets((all) => ({ ...all, [id]: secret }));
  return (
    <div className="grid items-start gap-5 lg:grid-cols-2">
      <div className="space-y-5">
        {webhooks.isError && <ErrorNote error={webhooks.error} again={() => void webhooks.refetch()} />}
        {webhooks.isPending && <Shape className="h-72" />}
        {webhooks.data?.map((webhook) => (
          <OneWebhook
            key={`${String(webhook.id)} ${webhook.address} ${webhook.events.join()}`}
            slug={slug}
            webhook={webhook}
            secret={secrets[webhook.id]}
            onSecret={(secret) => shown(webhook.id, secret)}
          />
        ))}
        {webhooks.data && <Further slug={slug} first={webhooks.data.length === 0} onSecret={shown} />}
      </div>
      <Incoming slug={slug} />
    </div>
  );
}

function OneWebhook({
  slug,
  webhook,
  secret,
  onSecret,
}: {
  slug: string;
  webhook: Webhook;
  secret: string | undefined;
  onSecret: (secret: string) => void;
}) {
  const held = { address: webhook.address, events: webhook.events };
  const [wanted, setWanted] = useState<WebhookSettings>(held);
  const [removing, setRemoving] = useState(false);
  const { set, remove, makeSecret, sendTrial, redeliver } = useWebhook(slug, webhook.id);
  const trial = sendTrial.isError ? sendTrial : redeliver;
  return (
    <Card title={hostOf(webhook.address)}>
      <div className="space-y-4">
        {webhook.stopped_at && (
          <Mind>
            It was stopped on {when(webhook.stopped_at)}, since it took nothing
            {webhook.refused_since && ` from ${when(webhook.refused_since)} on`}. Send a message to try it:
            once it takes that, it is told again.
          </Mind>
        )}
        {secret !== undefined && <Once label="The secret to check signatures with" value={secret} />}
        <form
          className="space-y-4"
          onSubmit={(event) => {
            event.preventDefault();
            set.mutate(wanted);
          }}
        >
          <Told wanted={wanted} onChange={setWanted} />
          <SaveBar
            same={JSON.stringify(wanted) === JSON.stringify(held)}
            change={set}
            onDiscard={() => setWanted(held)}
          />
        </form>
        {makeSecret.isError && <ErrorNote error={makeSecret.error} />}
        {trial.isError && <ErrorNote error={trial.error} />}
        <div className="flex flex-wrap gap-2 border-t border-line pt-4">
          <Button busy={sendTrial.isPending} onClick={() => sendTrial.mutate()}>
            Send a message to try it
          </Button>
          <Button
            busy={makeSecret.isPending}
            onClick={() => makeSecret.mutate(undefined, { onSuccess: (made) => onSecret(made.secret) })}
          >
            Make another secret
          </Button>
          <Button onClick={() => setRemoving(true)}>Remove</Button>
        </div>
        <Messages webhook={webhook} redeliver={redeliver} />
      </div>
      <Confirm
        open={removing}
        onClose={() => setRemoving(false)}
        title={`Tell ${hostOf(webhook.address)} no more`}
        action="Remove it"
        busy={remove.isPending}
        error={remove.error}
        onConfirm={() => remove.mutate()}
      >
        <p className="text-sm">
          Nothing is sent to it from now on; messages that wait are forgotten, and so is its secret.
        </p>
      </Confirm>
    </Card>
  );
}

function Further({
  slug,
  first,
  onSecret,
}: {
  slug: string;
  first: boolean;
  onSecret: (id: number, secret: string) => void;
}) {
  const [wanted, setWanted] = useState(FRESH);
  const [open, setOpen] = useState(false);
  const add = useAddWebhook(slug);
  if (!open) {
    return first ? (
      <Card title="What the library tells">
        <Empty title="Nobody is told yet">
          Your site or your tools can hear when a report is ready, an allowance runs out, or files changed.
        </Empty>
        <Button look="main" onClick={() => setOpen(true)}>
          Add a webhook
        </Button>
      </Card>
    ) : (
      <Button onClick={() => setOpen(true)}>Add another webhook</Button>
    );
  }
  return (
    <Card title="A new webhook">
      <form
        className="space-y-4"
        onSubmit={(event) => {
          event.preventDefault();
          add.mutate(wanted, {
            onSuccess: (made) => {
              onSecret(made.webhook.id, made.secret);
              setWanted(FRESH);
              setOpen(false);
            },
          });
        }}
      >
        <Told wanted={wanted} onChange={setWanted} />
        {add.isError && <ErrorNote error={add.error} />}
        <div className="flex gap-2">
          <Button type="submit" look="main" disabled={wanted.address === ""} busy={add.isPending}>
            Add
          </Button>
          <Button onClick={() => setOpen(false)}>Cancel</Button>
        </div>
        <p className="text-xs text-quiet">
          Messages are signed by the Standard Webhooks scheme, and sent again for three days until they are
          taken. A webhook that takes nothing for a day is stopped.
        </p>
      </form>
    </Card>
  );
}

function Told({
  wanted,
  onChange,
}: {
  wanted: WebhookSettings;
  onChange: (wanted: WebhookSettings) => void;
}) {
  return (
    <>
      <Field label="Send to" hint="An address of yours that takes POST.">
        <input
          className={`${INPUT} font-mono text-sm`}
          type="url"
          required
          value={wanted.address}
          placeholder="https://"
          onChange={(event) => onChange({ ...wanted, address: event.target.value })}
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
              onChange({
                ...wanted,
                events: on ? [...wanted.events, name] : wanted.events.filter((one) => one !== name),
              })
            }
          />
        ))}
      </fieldset>
    </>
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

function Messages({
  webhook,
  redeliver,
}: {
  webhook: Webhook;
  redeliver: ReturnType<typeof useWebhook>["redeliver"];
}) {
  const [all, setAll] = useState(false);
  if (webhook.messages.length === 0) return <p className="text-sm text-quiet">Nothing was told yet.</p>;
  const shown = all ? webhook.messages : webhook.messages.slice(0, FEW);
  return (
    <section aria-label={`Latest messages to ${hostOf(webhook.address)}`}>
      <h3 className="text-sm font-semibold">Latest messages</h3>
      <ul className="divide-y divide-line">
        {shown.map((one) => (
          <li key={one.id} className="flex flex-wrap items-center gap-x-4 gap-y-1 py-2 text-sm">
            <span className="min-w-40 flex-1">
              <span className="block" title={one.id}>
                {one.type === "webhook.trial" ? "To try it" : EVENTS[one.type][0]}
              </span>
              <span className="block text-xs text-quiet">{when(one.at)}</span>
            </span>
            <span>
              {one.sent_at ? (
                <Tag state="lighter">taken</Tag>
              ) : one.next_at ? (
                <Tag state="paused">
                  {one.attempts ? `tried ${String(one.attempts)} times` : "on its way"}
                </Tag>
              ) : one.given_up ? (
                <Tag state="failed">given up</Tag>
              ) : (
                <Tag state="paused">waits</Tag>
              )}
              {!one.sent_at && one.said && (
                <span className="mt-0.5 block text-xs text-clay">
                  {one.said}
                  {one.next_at && `; again at ${when(one.next_at)}`}
                </span>
              )}
            </span>
            {one.next_at === null && !webhook.stopped_at && (
              <Button
                busy={redeliver.isPending && redeliver.variables === one.id}
                onClick={() => redeliver.mutate(one.id)}
              >
                Send again
              </Button>
            )}
          </li>
        ))}
      </ul>
      {webhook.messages.length > shown.length && (
        <Button onClick={() => setAll(true)}>Show {webhook.messages.length - shown.length} more</Button>
      )}
    </section>
  );
}

/** So many messages are shown until more are asked for. */
const FEW = 5;

function hostOf(address: string): string {
  return URL.canParse(address) ? new URL(address).host : address;
}
