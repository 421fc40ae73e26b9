/** What a link opens: an invitation, the first administrator, a new password. */

import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { Problem } from "../api/client";
import { keys } from "../api/keys";
import { useJoin, useOffer, type Offer } from "../api/people";
import { when } from "../look/words";
import { Button, ErrorNote, Field, INPUT, Shape } from "../parts/ui";

const TITLES: Record<Offer["purpose"], string> = {
  "set-up": "The first administrator",
  invitation: "Come in",
  "new-password": "A new password",
};

const NEW = "At least ten characters; a sentence is best.";
const HINTS: Record<Offer["purpose"], string> = {
  "set-up": NEW,
  invitation: `If you have an account here already, its password. Otherwise a new one: ${NEW.toLowerCase()}`,
  "new-password": NEW,
};

export function JoinPage() {
  const token = useLocation().hash.slice(1);
  const offer = useOffer(token);
  return (
    <main className="mx-auto flex min-h-screen max-w-md flex-col justify-center p-4">
      <div className="mb-6 flex items-center gap-3">
        <img src="/mark.svg" alt="" className="h-12 w-12" />
        <h1 className="text-3xl">{offer.data ? TITLES[offer.data.purpose] : "Plum Crate"}</h1>
      </div>
      {offer.isPending && <Shape className="h-64" />}
      {offer.isError && (
        <ErrorNote
          error={offer.error}
          again={
            offer.error instanceof Problem && offer.error.status === 404
              ? undefined
              : () => void offer.refetch()
          }
        />
      )}
      {offer.data && <JoinForm token={token} offer={offer.data} />}
    </main>
  );
}

function JoinForm({ token, offer }: { token: string; offer: Offer }) {
  const join = useJoin();
  const cache = useQueryClient();
  const navigate = useNavigate();
  const [name, setName] = useState(offer.name);
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const wantsCode = join.error instanceof Problem && (join.error.code === "second-factor" || code !== "");
  const first = offer.purpose === "set-up";
  return (
    <form
      className="crate space-y-4 p-6"
      onSubmit={(event) => {
        event.preventDefault();
        join.mutate(
          { token, name, password, ...(first && { email }), ...(code && { code }) },
          {
            onSuccess: () => {
              void cache.invalidateQueries({ queryKey: keys.libraries });
              void navigate("/", { replace: true });
            },
          },
        );
      }}
    >
      <p>
        {said(offer)}{" "}
        <span className="text-sm text-quiet">The link opens once, until {when(offer.expires_at)}.</span>
      </p>
      {first && (
        <Field label="E-mail address" hint="You sign in with it.">
          <input
            className={INPUT}
            type="email"
            autoComplete="username"
            required
            value={email}
            onChange={(event) => setEmail(event.target.value)}
          />
        </Field>
      )}
      {!first && <input type="hidden" name="username" autoComplete="username" value={offer.email} readOnly />}
      {offer.purpose !== "new-password" && (
        <Field label="Your name">
          <input
            className={INPUT}
            autoComplete="name"
            required={first}
            maxLength={120}
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
        </Field>
      )}
      <Field label="A password" hint={HINTS[offer.purpose]}>
        <input
          className={INPUT}
          type="password"
          autoComplete={offer.purpose === "invitation" ? "current-password" : "new-password"}
          required
          minLength={offer.purpose === "invitation" ? 1 : 10}
          value={password}
          onChange={(event) => setPassword(event.target.value)}
        />
      </Field>
      {wantsCode && (
        <Field label="The six digits, or a recovery code">
          <input
            className={INPUT}
            inputMode="text"
            autoComplete="one-time-code"
            value={code}
            onChange={(event) => setCode(event.target.value)}
          />
        </Field>
      )}
      {join.isError && <ErrorNote error={join.error} />}
      <Button type="submit" look="main" busy={join.isPending} className="w-full">
        {offer.purpose === "new-password" ? "Use it" : "Come in"}
      </Button>
    </form>
  );
}

function said(offer: Offer): string {
  if (offer.purpose === "set-up")
    return "Nobody has an account yet. The first person who opens this link becomes the administrator of the service.";
  if (offer.purpose === "new-password")
    return `Choose a new password for ${offer.email}. You are signed out everywhere else.`;
  if (offer.service) return `${offer.email} is invited to administer the service.`;
  return `${offer.email} is invited to ${offer.libraries.join(", ")}.`;
}
