/** The four levels, each with what it is for, and the copies. */

import { RadioGroup } from "radix-ui";
import type { CopyFormat } from "../api/client";
import { useFormats } from "../api/queries";
import { LEVELS, type LevelName } from "../look/words";
import { Tick } from "./ui";

interface Props {
  level: LevelName;
  onLevel: (level: LevelName) => void;
  copies: CopyFormat[];
  onCopies: (copies: CopyFormat[]) => void;
}

export function LevelChoice({ level, onLevel, copies, onCopies }: Props) {
  const { formats } = useFormats();
  return (
    <div className="space-y-4">
      <div>
        <div id="level-label" className="mb-1 text-sm font-semibold">
          Level
        </div>
        <RadioGroup.Root
          aria-labelledby="level-label"
          value={level}
          onValueChange={(value) => onLevel(value as LevelName)}
          className="grid gap-2 sm:grid-cols-2"
        >
          {Object.entries(LEVELS).map(([key, { name, for: purpose }]) => (
            <RadioGroup.Item
              key={key}
              value={key}
              className="rounded-[5px] border border-line bg-surface px-3 py-2 text-left transition hover:border-plum data-[state=checked]:border-plum data-[state=checked]:bg-plum-soft"
            >
              <span className="block font-serif text-lg">{name}</span>
              <span className="block text-xs text-quiet">{purpose}</span>
            </RadioGroup.Item>
          ))}
        </RadioGroup.Root>
      </div>
      <fieldset>
        <legend className="mb-1 text-sm font-semibold">Copies beside each file</legend>
        <div className="flex gap-5">
          {formats
            .filter((format) => format.copy_of_others)
            .map(({ name, label }) => (
              <Tick
                key={name}
                label={label}
                on={copies.includes(name as CopyFormat)}
                onChange={(on) =>
                  onCopies(on ? [...copies, name as CopyFormat] : copies.filter((other) => other !== name))
                }
              />
            ))}
        </div>
        <p className="mt-1 text-xs text-quiet">A copy that would not be smaller is not written.</p>
      </fieldset>
    </div>
  );
}
