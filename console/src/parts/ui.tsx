/** The small pieces every page is made of. */

import { Dialog } from "radix-ui";
import { X } from "lucide-react";
import { useState, type ButtonHTMLAttributes, type ReactNode } from "react";
import { Problem } from "../api/client";

const BUTTON = {
  main: "bg-plum text-on-plum border-plum hover:brightness-110",
  plain: "bg-surface text-ink border-line hover:border-plum hover:text-plum",
  quiet: "border-transparent text-plum hover:bg-plum-soft",
  danger: "bg-surface text-clay border-clay hover:bg-clay-soft",
};

interface ButtonProps extends ButtonHTMLAttributes<HTMLButtonElement> {
  look?: keyof typeof BUTTON;
  busy?: boolean;
}

export function Button({ look = "plain", busy = false, children, className = "", ...rest }: ButtonProps) {
  return (
    <button
      type="button"
      {...rest}
      disabled={rest.disabled || busy}
      aria-busy={busy}
      className={`inline-flex min-h-9 items-center justify-center gap-2 rounded-[5px] border px-3.5 py-1.5 text-sm font-semibold transition disabled:cursor-not-allowed disabled:opacity-55 ${BUTTON[look]} ${className}`}
    >
      {children}
    </button>
  );
}

export function Card({
  title,
  aside,
  children,
  className = "",
}: {
  title?: ReactNode;
  aside?: ReactNode;
  children: ReactNode;
  className?: string;
}) {
  return (
    <section className={`crate p-5 ${className}`}>
      {title !== undefined && (
        <header className="mb-4 flex flex-wrap items-baseline justify-between gap-x-4 gap-y-1">
          <h2 className="text-xl">{title}</h2>
          {aside !== undefined && <div className="text-sm text-quiet">{aside}</div>}
        </header>
      )}
      {children}
    </section>
  );
}

/** A large figure with a small caption. */
export function Figure({
  value,
  unit,
  caption,
  tone = "ink",
}: {
  value: string;
  unit?: string;
  caption: ReactNode;
  tone?: "ink" | "leaf" | "clay";
}) {
  const colour = { ink: "text-ink", leaf: "text-leaf", clay: "text-clay" }[tone];
  return (
    <div>
      <div className={`font-serif text-3xl ${colour}`}>
        {value}
        {unit && <span className="ml-1 text-lg text-quiet">{unit}</span>}
      </div>
      <div className="mt-0.5 text-sm text-quiet">{caption}</div>
    </div>
  );
}

export function PageTitle({ children, aside }: { children: ReactNode; aside?: ReactNode }) {
  return (
    <div className="mb-5 flex flex-wrap items-end justify-between gap-3">
      <h1 className="text-3xl">{children}</h1>
      {aside !== undefined && (
        <div className="flex min-w-0 max-w-full flex-wrap items-center gap-2">{aside}</div>
      )}
    </div>
  );
}

/** What a page can be narrowed and changed by, below its tabs. */
export function Toolbar({ children }: { children: ReactNode }) {
  return <div className="mb-4 flex flex-wrap items-center justify-end gap-2">{children}</div>;
}

/** An error as a person can use it: what happened, what to do, and a way to try again. */
export function ErrorNote({ error, again }: { error: unknown; again?: () => void }) {
  const problem = error instanceof Problem ? error : null;
  return (
    <div role="alert" className="rounded-[5px] border border-clay bg-clay-soft px-4 py-3 text-clay">
      <p className="font-semibold">{problem?.title ?? "Something went wrong in the console"}</p>
      <p className="text-sm">
        {problem ? problem.detail : error instanceof Error ? error.message : String(error)}
      </p>
      {again && (
        <Button look="danger" className="mt-2" onClick={again}>
          Try again
        </Button>
      )}
    </div>
  );
}

export function Empty({
  title,
  children,
  action,
}: {
  title: string;
  children: ReactNode;
  action?: ReactNode;
}) {
  return (
    <div className="rounded-md border border-dashed border-kraft px-6 py-10 text-center">
      <h2 className="text-xl">{title}</h2>
      <p className="mx-auto mt-1 max-w-prose text-quiet">{children}</p>
      {action !== undefined && <div className="mt-4">{action}</div>}
    </div>
  );
}

/** The shape of what comes, while it loads. */
export function Shape({ className = "h-24" }: { className?: string }) {
  return <div aria-hidden className={`shape ${className}`} />;
}

export function Field({ label, hint, children }: { label: string; hint?: ReactNode; children: ReactNode }) {
  return (
    <label className="block">
      <span className="mb-1 block text-sm font-semibold">{label}</span>
      {children}
      {hint !== undefined && <span className="mt-1 block text-xs text-quiet">{hint}</span>}
    </label>
  );
}

const CONTROL =
  "min-h-9 rounded-[5px] border border-line bg-surface px-3 py-1.5 text-ink placeholder:text-quiet hover:border-plum";
/** A control as wide as its place, or as its content. */
export const INPUT = `w-full ${CONTROL}`;
export const INLINE_INPUT = CONTROL;

export function Sheet({
  open,
  onClose,
  title,
  children,
}: {
  open: boolean;
  onClose: () => void;
  title: string;
  children: ReactNode;
}) {
  return (
    <Dialog.Root open={open} onOpenChange={(now) => !now && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/45" />
        <Dialog.Content
          aria-describedby={undefined}
          className="crate fixed left-1/2 top-1/2 z-50 max-h-[90vh] w-[min(34rem,calc(100vw-2rem))] -translate-x-1/2 -translate-y-1/2 overflow-y-auto p-6"
        >
          <div className="mb-4 flex items-start justify-between gap-4">
            <Dialog.Title className="text-2xl">{title}</Dialog.Title>
            <Dialog.Close aria-label="Close" className="rounded p-1 text-quiet hover:text-plum">
              <X size={20} />
            </Dialog.Close>
          </div>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** Asks before something that changes many files; the word must be typed when one is given. */
export function Confirm({
  open,
  onClose,
  title,
  word,
  action,
  busy,
  error,
  onConfirm,
  children,
}: {
  open: boolean;
  onClose: () => void;
  title: string;
  word?: string;
  action: string;
  busy: boolean;
  error: unknown;
  onConfirm: () => void;
  children: ReactNode;
}) {
  const [typed, setTyped] = useState("");
  return (
    <Sheet open={open} onClose={onClose} title={title}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          onConfirm();
        }}
        className="space-y-4"
      >
        <div className="space-y-2">{children}</div>
        {word !== undefined && (
          <Field label={`Type ${word} to confirm`}>
            <input
              className={INPUT}
              value={typed}
              onChange={(event) => setTyped(event.target.value)}
              autoComplete="off"
            />
          </Field>
        )}
        {error != null && <ErrorNote error={error} />}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Leave it</Button>
          <Button
            type="submit"
            look="main"
            busy={busy}
            disabled={word !== undefined && typed.trim() !== word}
          >
            {action}
          </Button>
        </div>
      </form>
    </Sheet>
  );
}

const TONES: Record<string, string> = {
  lighter: "border-leaf text-leaf",
  done: "border-leaf text-leaf",
  finished: "border-leaf text-leaf",
  running: "border-plum text-plum",
  new: "border-plum text-plum",
  failed: "border-clay text-clay",
  unreadable: "border-clay text-clay",
  paused: "border-clay text-clay",
};

export function Tag({ state, children }: { state: string; children?: ReactNode }) {
  return (
    <span
      className={`inline-block whitespace-nowrap rounded-full border px-2 py-px text-xs font-semibold ${TONES[state] ?? "border-line text-quiet"}`}
    >
      {children ?? state}
    </span>
  );
}

/** A box to tick, with what it means. Boxes below one another stand 24 px apart at least (WCAG 2.2, 2.5.8). */
export function Tick({
  label,
  hint,
  on,
  onChange,
  disabled = false,
}: {
  label: string;
  hint?: ReactNode;
  on: boolean;
  onChange: (on: boolean) => void;
  disabled?: boolean;
}) {
  return (
    <label className={`flex min-h-7 items-start gap-2 text-sm ${disabled ? "opacity-55" : ""}`}>
      <input
        type="checkbox"
        className="mt-0.5 h-4 w-4 shrink-0 accent-plum"
        checked={on}
        disabled={disabled}
        onChange={(event) => onChange(event.target.checked)}
      />
      <span>
        <span className="block font-semibold">{label}</span>
        {hint !== undefined && <span className="block text-xs text-quiet">{hint}</span>}
      </span>
    </label>
  );
}

/** A number that may be left empty. */
export function NumberInput({
  value,
  onChange,
  min = 0,
  max,
  unit,
  label,
  width = "w-28",
}: {
  value: number | null;
  onChange: (value: number | null) => void;
  min?: number;
  max?: number;
  unit?: string;
  label: string;
  width?: string;
}) {
  return (
    <span className="inline-flex items-center gap-1.5">
      <input
        type="number"
        aria-label={label}
        min={min}
        max={max}
        value={value ?? ""}
        placeholder="–"
        className={`${INLINE_INPUT} ${width} text-right tabular-nums`}
        onChange={(event) => onChange(event.target.value === "" ? null : Number(event.target.value))}
      />
      {unit && <span className="text-sm text-quiet">{unit}</span>}
    </span>
  );
}

/** Something an administrator must know before going on. */
export function Mind({ children }: { children: ReactNode }) {
  return (
    <p role="note" className="rounded-[5px] border border-clay bg-clay-soft px-4 py-2.5 text-sm text-clay">
      {children}
    </p>
  );
}

/** The end of a form: save what was changed, or take it back. */
export function SaveBar({
  same,
  change,
  onDiscard,
}: {
  same: boolean;
  change: { isPending: boolean; isSuccess: boolean; isError: boolean; error: unknown };
  onDiscard: () => void;
}) {
  return (
    <>
      {change.isError && <ErrorNote error={change.error} />}
      <div className="flex gap-2">
        <Button type="submit" look="main" disabled={same} busy={change.isPending}>
          Save
        </Button>
        {!same && <Button onClick={onDiscard}>Discard</Button>}
        {same && change.isSuccess && <span className="self-center text-sm text-leaf">Saved.</span>}
      </div>
    </>
  );
}

/** One of a few, each with what it means. */
export function Choice<K extends string>({
  legend,
  name,
  of,
  chosen,
  onChange,
}: {
  legend: string;
  name: string;
  of: Record<K, readonly [string, string]>;
  chosen: K;
  onChange: (chosen: K) => void;
}) {
  return (
    <fieldset className="space-y-2">
      <legend className="mb-1 text-sm font-semibold">{legend}</legend>
      {(Object.keys(of) as K[]).map((kind) => (
        <label key={kind} className="flex min-h-7 items-start gap-2 text-sm">
          <input
            type="radio"
            name={name}
            className="mt-0.5 h-4 w-4 accent-plum"
            checked={chosen === kind}
            onChange={() => onChange(kind)}
          />
          <span>
            <span className="block font-semibold">{of[kind][0]}</span>
            <span className="block text-xs text-quiet">{of[kind][1]}</span>
          </span>
        </label>
      ))}
    </fieldset>
  );
}
