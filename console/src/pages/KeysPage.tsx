/** Keys for machines: made for a purpose, shown once, rotated with an overlap, revoked at once. */

import { useState } from "react";
import type { Library } from "../api/client";
import { useKeys, useMakeKey, useRevokeKey, useRotateKey, type Ability, type Key } from "../api/people";
import { useLibraries } from "../api/queries";
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
  NumberInput,
  Shape,
  Sheet,
  Tag,
  Tick,
} from "../parts/ui";

const ABILITIES: Record<Ability, readonly [string, string]> = {
  look: ["Look", "read everything; enough for a page cache or a report"],
  mend: ["Mend", "put one picture back, leave one alone"],
  upload: ["Upload", "put new pictures in; what a CMS needs"],
  treat: ["Treat", "runs, surveys, weighings, counts of logs"],
  administer: ["Administer", "settings, recipe, backups, people and keys"],
};
const NAMES = Object.keys(ABILITIES) as Ability[];

export function LibraryKeysPage({ library }: { library: Library }) {
  return <Keys slug={library.slug} />;
}

export function ServiceKeysPage() {
  return <Keys />;
}

function Keys({ slug }: { slug?: string }) {
  const list = useKeys(slug);
  const [making, setMaking] = useState(false);
  const [rotating, setRotating] = useState<Key | null>(null);
  const [revoking, setRevoking] = useState<Key | null>(null);
  const revoke = useRevokeKey(slug);
  return (
    <div className="space-y-5">
      <Card
        title={slug === undefined ? "Every key" : "Keys of this library alone"}
        aside={
          <Button look="main" onClick={() => setMaking(true)}>
            Make a key
          </Button>
        }
      >
        {list.isPending && <Shape className="h-32" />}
        {list.isError && <ErrorNote error={list.error} again={() => void list.refetch()} />}
        {list.data?.length === 0 && (
          <Empty title="No key yet" action={<Button onClick={() => setMaking(true)}>Make a key</Button>}>
            A site, a build or a script asks with a key. Give each its own, with no more rights than it needs.
          </Empty>
        )}
        <ul className="divide-y divide-line">
          {list.data?.map((key) => (
            <li key={key.id} className="flex flex-wrap items-center gap-x-3 gap-y-1 py-3">
              <span className="min-w-56 flex-1">
                <span className="flex flex-wrap items-center gap-2 font-semibold">
                  {key.name} {key.hint && <code className="font-mono text-xs text-quiet">…{key.hint}</code>}{" "}
                  <Expiry key_={key} />
                </span>
                <span className="block text-sm text-quiet">{opens(key, slug !== undefined)}</span>
                <span className="block text-xs text-quiet">
                  made {when(key.created_at)}
                  {key.by && ` by ${key.by}`},{" "}
                  {key.last_used_at
                    ? `last used ${when(key.last_used_at)} from ${key.last_used_from ?? "somewhere"}`
                    : "never used"}
                </span>
              </span>
              <span className="flex">
                <Button look="quiet" onClick={() => setRotating(key)}>
                  New secret
                </Button>
                <Button look="quiet" onClick={() => setRevoking(key)}>
                  Revoke
                </Button>
              </span>
            </li>
          ))}
        </ul>
      </Card>
      {making && <MakeSheet slug={slug} onClose={() => setMaking(false)} />}
      {rotating && <RotateSheet slug={slug} key_={rotating} onClose={() => setRotating(null)} />}
      <Confirm
        open={revoking !== null}
        onClose={() => setRevoking(null)}
        title={`Revoke ${revoking?.name ?? ""}`}
        action="Revoke"
        busy={revoke.isPending}
        error={revoke.error}
        onConfirm={() => revoking && revoke.mutate(revoking.id, { onSuccess: () => setRevoking(null) })}
      >
        <p>
          Whoever uses it is refused from this moment on. To replace it without a gap, give it a new secret
          instead.
        </p>
      </Confirm>
    </div>
  );
}

function opens(key: Key, here: boolean): string {
  if (key.service) return "administers the service";
  const may = key.abilities.map((one) => ABILITIES[one][0].toLowerCase()).join(", ");
  if (here) return `may ${may}`;
  return `may ${may} in ${key.libraries ? key.libraries.join(", ") || "no library" : "all libraries"}`;
}

function Expiry({ key_: key }: { key_: Key }) {
  const [now] = useState(Date.now);
  if (!key.expires_at) return null;
  const left = new Date(key.expires_at).getTime() - now;
  if (left <= 0) return <Tag state="failed">expired</Tag>;
  return <Tag state={left < 7 * 86_400_000 ? "paused" : "kept"}>until {when(key.expires_at)}</Tag>;
}

function MakeSheet({ slug, onClose }: { slug?: string; onClose: () => void }) {
  const make = useMakeKey(slug);
  const libraries = useLibraries();
  const [name, setName] = useState("");
  const [abilities, setAbilities] = useState<Ability[]>(["look"]);
  const [days, setDays] = useState<number | null>(365);
  const [service, setService] = useState(false);
  const [chosen, setChosen] = useState<string[]>([]);
  const toggle = (ability: Ability, on: boolean) =>
    setAbilities(on ? [...abilities, ability] : abilities.filter((one) => one !== ability));
  return (
    <Sheet open onClose={onClose} title="Make a key">
      {make.data ? (
        <Made name={make.data.name} secret={make.data.secret} onClose={onClose} />
      ) : (
        <form
          className="space-y-4"
          onSubmit={(event) => {
            event.preventDefault();
            make.mutate({
              name,
              abilities,
              days,
              service,
              libraries: service || chosen.length === 0 ? null : chosen,
            });
          }}
        >
          <Field label="Name" hint="Who or what uses it: the site, a build, a script.">
            <input
              className={INPUT}
              required
              maxLength={120}
              value={name}
              onChange={(event) => setName(event.target.value)}
            />
          </Field>
          {slug === undefined && (
            <Tick
              label="Administers the whole service"
              hint="People, keys, libraries, everything. Rarely what a machine needs."
              on={service}
              onChange={setService}
            />
          )}
          {!service && (
            <fieldset className="space-y-2">
              <legend className="mb-1 text-sm font-semibold">It may</legend>
              {NAMES.map((one) => (
                <Tick
                  key={one}
                  label={ABILITIES[one][0]}
                  hint={ABILITIES[one][1]}
                  on={one === "look" || abilities.includes(one)}
                  disabled={one === "look"}
                  onChange={(on) => toggle(one, on)}
                />
              ))}
            </fieldset>
          )}
          {slug === undefined && !service && (
            <fieldset className="space-y-1">
              <legend className="mb-1 text-sm font-semibold">
                In these libraries; none chosen: in all, also those to come
              </legend>
              {libraries.data?.map((library) => (
                <Tick
                  key={library.slug}
                  label={library.name}
                  on={chosen.includes(library.slug)}
                  onChange={(on) =>
                    setChosen(on ? [...chosen, library.slug] : chosen.filter((one) => one !== library.slug))
                  }
                />
              ))}
            </fieldset>
          )}
          <div>
            <span className="mb-1 block text-sm font-semibold">It expires after</span>
            <NumberInput
              label="Days until it expires"
              min={1}
              max={3650}
              unit="days; empty: never"
              value={days}
              onChange={setDays}
            />
          </div>
          {make.isError && <ErrorNote error={make.error} />}
          <div className="flex justify-end gap-2">
            <Button onClick={onClose}>Leave it</Button>
            <Button type="submit" look="main" busy={make.isPending}>
              Make it
            </Button>
          </div>
        </form>
      )}
    </Sheet>
  );
}

function RotateSheet({ slug, key_: key, onClose }: { slug?: string; key_: Key; onClose: () => void }) {
  const rotate = useRotateKey(slug);
  const [hours, setHours] = useState<number | null>(24);
  return (
    <Sheet open onClose={onClose} title={`A new secret for ${key.name}`}>
      {rotate.data ? (
        <Made name={rotate.data.name} secret={rotate.data.secret} onClose={onClose} />
      ) : (
        <form
          className="space-y-4"
          onSubmit={(event) => {
            event.preventDefault();
            rotate.mutate({ number: key.id, hours: hours ?? 0 });
          }}
        >
          <p>
            It gets the same rights. The former secret goes on working meanwhile, so that nothing stops while
            you change it over.
          </p>
          <NumberInput
            label="Hours for which both work"
            min={0}
            max={720}
            unit="hours for which both work"
            value={hours}
            onChange={setHours}
          />
          {rotate.isError && <ErrorNote error={rotate.error} />}
          <div className="flex justify-end gap-2">
            <Button onClick={onClose}>Leave it</Button>
            <Button type="submit" look="main" busy={rotate.isPending}>
              Make it
            </Button>
          </div>
        </form>
      )}
    </Sheet>
  );
}

function Made({ name, secret, onClose }: { name: string; secret: string; onClose: () => void }) {
  return (
    <div className="space-y-4">
      <Once label={`The key for ${name}`} value={secret}>
        It is shown this once: keep it where only its machine reads it.
      </Once>
      <div className="flex justify-end">
        <Button look="main" onClick={onClose}>
          Done
        </Button>
      </div>
    </div>
  );
}
