/** One description as somebody types it: saved when they pause, never over what somebody else wrote meanwhile. */

import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { Problem } from "../api/client";
import { saveDescription, takeDescription, type Description, type Texts } from "../api/descriptions";

/** So many milliseconds without a key are a pause. */
const PAUSE = 700;

export type SaveState = "saved" | "typing" | "saving" | "failed" | "overtaken";

const textsOf = ({ alternative, title, caption, credit, decorative }: Description): Texts => ({
  alternative,
  title,
  caption,
  credit,
  decorative,
});

const same = (one: Texts, other: Texts) =>
  (Object.keys(one) as (keyof Texts)[]).every((name) => one[name] === other[name]);

export interface Draft {
  texts: Texts;
  state: SaveState;
  error: unknown;
  change: (part: Partial<Texts>) => void;
  /** Saves now what is not saved yet. */
  flush: () => void;
  /** Back to what is on record. */
  revert: () => void;
  /** Saves what was typed over what somebody else wrote. */
  keepMine: () => void;
}

export function useDraft(row: Description): Draft {
  const cache = useQueryClient();
  const [texts, setTexts] = useState(() => textsOf(row));
  const [state, setState] = useState<SaveState>("saved");
  const [error, setError] = useState<unknown>(null);
  // What is asked between two drawings: the newest words, and what they were based on.
  const now = useRef({ texts, row, busy: false, stopped: false });
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const again = useRef(() => {});

  const send = useCallback(() => {
    clearTimeout(timer.current);
    const { busy, stopped } = now.current;
    if (busy || stopped || same(now.current.texts, textsOf(now.current.row))) return;
    const { row: basis, texts: sent } = now.current;
    now.current.busy = true;
    setState("saving");
    saveDescription(basis.picture_id, basis.language, sent, basis.version)
      .then((saved) => {
        now.current.busy = false;
        now.current.row = saved;
        takeDescription(cache, saved);
        const typed = !same(now.current.texts, sent);
        // The service tidies: spaces around are gone.
        if (!typed) {
          now.current.texts = textsOf(saved);
          setTexts(now.current.texts);
        }
        setError(null);
        setState(typed ? "typing" : "saved");
        if (typed) timer.current = setTimeout(() => again.current(), PAUSE);
      })
      .catch((problem: unknown) => {
        now.current.busy = false;
        now.current.stopped = true;
        setError(problem);
        setState(problem instanceof Problem && problem.status === 412 ? "overtaken" : "failed");
      });
  }, [cache]);

  useEffect(() => {
    again.current = send;
  }, [send]);

  // What somebody else wrote is shown at once where nothing of one's own waits.
  useEffect(() => {
    const current = now.current;
    // A list that was asked for before the latest save comes back with former words.
    if (row.version < current.row.version || row === current.row) return;
    const untouched = same(current.texts, textsOf(current.row)) && !current.busy;
    if (!untouched) return;
    current.row = row;
    current.texts = textsOf(row);
    setTexts(current.texts);
    setState("saved");
  }, [row]);

  // Leaving the page saves what waits.
  useEffect(
    () => () => {
      send();
    },
    [send],
  );

  const change = useCallback(
    (part: Partial<Texts>) => {
      now.current.texts = { ...now.current.texts, ...part };
      now.current.stopped = false;
      setTexts(now.current.texts);
      setState(now.current.busy ? "saving" : "typing");
      clearTimeout(timer.current);
      timer.current = setTimeout(send, PAUSE);
    },
    [send],
  );

  const revert = useCallback(() => {
    clearTimeout(timer.current);
    now.current.row = row;
    now.current.texts = textsOf(row);
    now.current.stopped = false;
    setTexts(now.current.texts);
    setError(null);
    setState("saved");
  }, [row]);

  const keepMine = useCallback(() => {
    now.current.row = row;
    now.current.stopped = false;
    send();
  }, [row, send]);

  return { texts, state, error, change, flush: send, revert, keepMine };
}
