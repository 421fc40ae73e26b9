/** One's own account: the password, the second factor, where one is signed in. */

import { useState } from "react";
import type { Person } from "../api/client";
import {
  useChangePassword,
  useEndSession,
  useMySessions,
  useSecondFactor,
  useSignOutEverywhere,
} from "../api/people";
import { many, when } from "../look/words";
import { Button, Card, ErrorNote, Field, INPUT, PageTitle, Shape, Tag } from "../parts/ui";

export function AccountPage({ person }: { person: Person }) {
  return (
    <div className="space-y-5">
      <PageTitle>{person.name}</PageTitle>
      <div className="grid gap-5 lg:grid-cols-2">
        <PasswordCard email={person.email ?? ""} />
        <SecondFactorCard on={person.second_factor} />
        <SessionsCard />
      </div>
    </div>
  );
}

function PasswordCard({ email }: { email: string }) {
  const change = useChangePassword();
  const [current, setCurrent] = useState("");
  const [fresh, setFresh] = useState("");
  return (
    <Card title="Password">
      <form
        className="space-y-4"
        onSubmit={(event) => {
          event.preventDefault();
          change.mutate(
            { current, new: fresh },
            {
              onSuccess: () => {
                setCurrent("");
                setFresh("");
              },
            },
          );
        }}
      >
        <input type="hidden" name="username" autoComplete="username" value={email} readOnly />
        <Field label="The one you have">
          <input
            className={INPUT}
            type="password"
            autoComplete="current-password"
            required
            value={current}
            onChange={(event) => setCurrent(event.target.value)}
          />
        </Field>
        <Field label="The new one" hint="At least ten signs. You are signed out everywhere else.">
          <input
            className={INPUT}
            type="password"
            autoComplete="new-password"
            minLength={10}
            required
            value={fresh}
            onChange={(event) => setFresh(event.target.value)}
          />
        </Field>
        {change.isError && <ErrorNote error={change.error} />}
        <div className="flex items-center gap-3">
          <Button type="submit" look="main" busy={change.isPending}>
            Change it
          </Button>
          {change.isSuccess && <span className="text-sm text-leaf">Changed.</span>}
        </div>
      </form>
    </Card>
  );
}

function SecondFactorCard({ on }: { on: boolean }) {
  const { offer, begin, end, codes } = useSecondFactor();
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const shown = begin.data?.codes ?? codes.data?.codes;
  const confirm = (
    <Field label="Your password">
      <input
        className={INPUT}
        type="password"
        autoComplete="current-password"
        required
        value={password}
        onChange={(event) => setPassword(event.target.value)}
      />
    </Field>
  );
  const done = () => setPassword("");
  return (
    <Card title="Second factor" aside={on ? <Tag state="done">on</Tag> : <Tag state="kept">off</Tag>}>
      {shown && (
        <div role="status" className="mb-4 rounded-[5px] border border-leaf bg-leaf-soft p-4">
          <p className="text-sm font-semibold">Recovery codes, shown this once</p>
          <p className="mb-2 text-sm text-quiet">
            Each signs you in once when the telephone is lost. Keep them on paper.
          </p>
          <ul className="grid grid-cols-1 gap-1 font-mono text-sm sm:grid-cols-2">
            {shown.map((one) => (
              <li key={one}>{one}</li>
            ))}
          </ul>
        </div>
      )}
      {!on && !offer.data && (
        <form
          className="space-y-4"
          onSubmit={(event) => {
            event.preventDefault();
            offer.mutate(password, { onSuccess: done });
          }}
        >
          <p className="text-sm text-quiet">
            A code from your telephone, asked for after the password: whoever learns the password alone does
            not come in.
          </p>
          {confirm}
          {offer.isError && <ErrorNote error={offer.error} />}
          <Button type="submit" look="main" busy={offer.isPending}>
            Set it up
          </Button>
        </form>
      )}
      {!on && offer.data && (
        <form
          className="space-y-4"
          onSubmit={(event) => {
            event.preventDefault();
            begin.mutate(code);
          }}
        >
          <p className="text-sm">
            Scan this with an authenticator app, or type the secret into it. Then tell its six digits.
          </p>
          <img
            alt="The secret, to be scanned"
            className="h-44 w-44 rounded bg-white p-1"
            src={`data:image/svg+xml;utf8,${encodeURIComponent(offer.data.image)}`}
          />
          <code className="block break-all font-mono text-sm">{offer.data.secret}</code>
          <Field label="The six digits">
            <input
              className={INPUT}
              inputMode="numeric"
              autoComplete="one-time-code"
              required
              value={code}
              onChange={(event) => setCode(event.target.value)}
            />
          </Field>
          {begin.isError && <ErrorNote error={begin.error} />}
          <Button type="submit" look="main" busy={begin.isPending}>
            Put it in force
          </Button>
        </form>
      )}
      {on && (
        <form
          className="space-y-4"
          onSubmit={(event) => {
            event.preventDefault();
            codes.mutate(password, { onSuccess: done });
          }}
        >
          {confirm}
          {(codes.isError || end.isError) && <ErrorNote error={codes.error ?? end.error} />}
          <div className="flex flex-wrap gap-2">
            <Button type="submit" busy={codes.isPending}>
              New recovery codes
            </Button>
            <Button
              look="danger"
              busy={end.isPending}
              disabled={!password}
              onClick={() =>
                end.mutate(password, {
                  onSuccess: () => {
                    done();
                    offer.reset();
                    begin.reset();
                    codes.reset();
                  },
                })
              }
            >
              Take it away
            </Button>
          </div>
        </form>
      )}
    </Card>
  );
}

function SessionsCard() {
  const sessions = useMySessions();
  const end = useEndSession();
  const everywhere = useSignOutEverywhere();
  return (
    <Card
      title="Where you are signed in"
      aside={sessions.data && many(sessions.data.length, "browser")}
      className="lg:col-span-2"
    >
      {sessions.isPending && <Shape />}
      {sessions.isError && <ErrorNote error={sessions.error} again={() => void sessions.refetch()} />}
      {(end.isError || everywhere.isError) && <ErrorNote error={end.error ?? everywhere.error} />}
      <ul className="divide-y divide-line">
        {sessions.data?.map((one) => (
          <li key={one.id} className="flex flex-wrap items-center gap-3 py-3 text-sm">
            <span className="min-w-56 flex-1">
              <span className="block font-semibold">
                {browserOf(one.browser)} {one.current && <Tag state="done">this one</Tag>}
              </span>
              <span className="block text-quiet">
                from {one.address}, since {when(one.created_at)}, last seen {when(one.seen_at)}
              </span>
            </span>
            {!one.current && (
              <Button look="quiet" busy={end.isPending} onClick={() => end.mutate(one.id)}>
                Sign out there
              </Button>
            )}
          </li>
        ))}
      </ul>
      <Button
        className="mt-3"
        busy={everywhere.isPending}
        onClick={() => everywhere.mutate(undefined, { onSuccess: () => location.assign("/") })}
      >
        Sign out everywhere
      </Button>
    </Card>
  );
}

/** A browser as a person names it. */
export function browserOf(agent: string): string {
  const name = /Edg\//.test(agent)
    ? "Edge"
    : /Firefox\//.test(agent)
      ? "Firefox"
      : /Chrom(e|ium)\//.test(agent)
        ? "Chrome"
        : /Safari\//.test(agent)
          ? "Safari"
          : agent.split("/")[0] || "A browser";
  const system = /Android/.test(agent)
    ? "Android"
    : /iPhone|iPad/.test(agent)
      ? "iOS"
      : /Windows/.test(agent)
        ? "Windows"
        : /Mac OS/.test(agent)
          ? "macOS"
          : /Linux|X11/.test(agent)
            ? "Linux"
            : "";
  return system ? `${name} on ${system}` : name;
}
