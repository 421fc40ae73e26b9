/** Languages, and which rules a text is held against: each says why. */

import { useState } from "react";
import type { Library } from "../api/client";
import {
  useDescriptionSettings,
  useSaveDescriptionSettings,
  type DescriptionRule,
  type DescriptionSettings,
} from "../api/descriptions";
import { useMay } from "../api/people";
import { Field, INPUT, NumberInput, SaveBar, Sheet, Tick } from "./ui";

export const RULES: Record<DescriptionRule, { name: string; why: string }> = {
  missing: { name: "says nothing", why: "Whoever does not see it hears the file's name, or nothing." },
  doubled: { name: "says what another says", why: "Two different pictures need different words." },
  "file-name": { name: "is a file's name", why: "IMG_2041 says nothing to anybody." },
  "too-long": { name: "is too long", why: "Some screen readers read long texts in pieces." },
  opening: { name: "begins with “image of”", why: "A screen reader says already that it is a picture." },
  stuffed: { name: "is a list of keywords", why: "It is read out to people, word by word." },
  language: { name: "is in another language", why: "It would be read out with the wrong voice." },
};

export function DescriptionRules({ library, onClose }: { library: Library; onClose: () => void }) {
  const settings = useDescriptionSettings(library.slug);
  return (
    <Sheet open onClose={onClose} title="Rules and languages">
      {settings.data && <Form key={JSON.stringify(settings.data)} library={library} saved={settings.data} />}
    </Sheet>
  );
}

function Form({ library, saved }: { library: Library; saved: DescriptionSettings }) {
  const may = useMay(library.slug)("administer");
  const save = useSaveDescriptionSettings(library.slug);
  const [languages, setLanguages] = useState(saved.languages.join(", "));
  const [draft, setDraft] = useState(saved);
  const wanted: DescriptionSettings = {
    ...draft,
    languages: languages
      .split(/[,\s]+/)
      .map((tag) => tag.trim())
      .filter(Boolean),
  };
  const rules = Object.keys(RULES) as DescriptionRule[];
  return (
    <form
      className="space-y-4"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate(wanted);
      }}
    >
      <Field label="Languages" hint="By their tags: en, de-CH. Translations are made from the first.">
        <input
          className={INPUT}
          value={languages}
          disabled={!may}
          onChange={(event) => setLanguages(event.target.value)}
        />
      </Field>
      <fieldset className="space-y-2">
        <legend className="mb-1 text-sm font-semibold">What a text is held against</legend>
        {rules.map((rule) => (
          <Tick
            key={rule}
            label={RULES[rule].name}
            hint={RULES[rule].why}
            on={draft.rules.includes(rule)}
            disabled={!may}
            onChange={(on) =>
              setDraft({
                ...draft,
                rules: rules.filter((one) => (one === rule ? on : draft.rules.includes(one))),
              })
            }
          />
        ))}
      </fieldset>
      <Field label="Longest text">
        <NumberInput
          label="Longest text, in characters"
          unit="characters"
          min={20}
          max={2000}
          value={draft.longest}
          onChange={(longest) => setDraft({ ...draft, longest: longest ?? 125 })}
        />
      </Field>
      {may ? (
        <SaveBar
          same={JSON.stringify(wanted) === JSON.stringify(saved)}
          change={save}
          onDiscard={() => {
            setDraft(saved);
            setLanguages(saved.languages.join(", "));
          }}
        />
      ) : (
        <p className="text-sm text-quiet">An administrator of the library changes these.</p>
      )}
    </form>
  );
}
