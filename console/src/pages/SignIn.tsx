import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, Problem } from "../api/client";
import { Button, ErrorNote, Field, INPUT } from "../parts/ui";

export function SignIn() {
  const cache = useQueryClient();
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const signIn = useMutation({
    mutationFn: () =>
      ask(api.POST("/api/v1/session", { body: { email, password, code: code.trim() || null } })),
    onSuccess: (person) => cache.setQueryData(["person"], person),
  });
  const wanted = signIn.error instanceof Problem && signIn.error.code === "second-factor";
  const [asksCode, setAsksCode] = useState(false);
  if (wanted && !asksCode) setAsksCode(true);
  return (
    <main className="mx-auto flex min-h-screen max-w-md flex-col justify-center p-4">
      <div className="mb-6 flex items-center gap-3">
        <img src="/mark.svg" alt="" className="h-12 w-12" />
        <div>
          <h1 className="text-4xl">Plum Crate</h1>
          <p className="text-quiet">A media library, made light and kept light.</p>
        </div>
      </div>
      <form
        className="crate space-y-4 p-6"
        onSubmit={(event) => {
          event.preventDefault();
          signIn.mutate();
        }}
      >
        <Field label="E-mail address">
          <input
            className={INPUT}
            type="email"
            autoComplete="username"
            required
            value={email}
            onChange={(event) => setEmail(event.target.value)}
          />
        </Field>
        <Field label="Password">
          <input
            className={INPUT}
            type="password"
            autoComplete="current-password"
            required
            value={password}
            onChange={(event) => setPassword(event.target.value)}
          />
        </Field>
        {asksCode && (
          <Field label="The six digits, or a recovery code" hint="From the authenticator on your telephone.">
            <input
              className={INPUT}
              autoFocus
              autoComplete="one-time-code"
              value={code}
              onChange={(event) => setCode(event.target.value)}
            />
          </Field>
        )}
        {signIn.isError && !wanted && <ErrorNote error={signIn.error} />}
        <Button type="submit" look="main" busy={signIn.isPending} className="w-full">
          Sign in
        </Button>
      </form>
    </main>
  );
}
