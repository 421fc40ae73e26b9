/** What can be done with many pictures at once; each says how many, how heavy, and whether it can be undone. */

import { ChevronDown } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { useState, type ReactNode } from "react";
import { useNavigate } from "react-router";
import type { Library, RunRequest } from "../api/client";
import { useMay } from "../api/people";
import { useSetOverrides, useStartRun } from "../api/queries";
import { asked, type Filter } from "../look/filter";
import { bytes, LEVELS, many, type LevelName } from "../look/words";
import { Button, Confirm } from "./ui";

/** What is chosen: some pictures by hand, or all that a filter finds. */
export interface Selection {
  pictures: number;
  files: number;
  weight: number;
  /** The numbers of those chosen by hand; none: all that the filter finds. */
  numbers?: number[];
}

type Rule = "leave" | LevelName | null;
type Act = { kind: "treat" } | { kind: "restore" } | { kind: "rule"; rule: Rule };

export function BulkBar({
  library,
  filter,
  selection,
  total,
  onAll,
  onNone,
}: {
  library: Library;
  filter: Filter;
  selection: Selection;
  total: number;
  onAll: () => void;
  onNone: () => void;
}) {
  const may = useMay(library.slug);
  const [act, setAct] = useState<Act | null>(null);
  const all = selection.numbers === undefined;
  return (
    <div
      role="region"
      aria-label="Chosen pictures"
      className="crate sticky top-16 z-20 mb-3 flex flex-wrap items-center gap-x-3 gap-y-2 px-4 py-2"
    >
      <span>
        <span className="font-semibold">{many(selection.pictures, "picture")} chosen</span>
        <span className="text-sm text-quiet">
          {" "}
          {many(selection.files, "file")}, {bytes(selection.weight)}
        </span>
      </span>
      {!all && selection.pictures < total && (
        <Button look="quiet" onClick={onAll}>
          Choose all {many(total, "picture")}
        </Button>
      )}
      <Button look="quiet" onClick={onNone}>
        Choose none
      </Button>
      <span className="flex-1" />
      {may("treat") && (
        <Button look="main" onClick={() => setAct({ kind: "treat" })}>
          Treat again …
        </Button>
      )}
      {(may("treat") || (may("mend") && selection.numbers?.length === 1)) && (
        <Button onClick={() => setAct({ kind: "restore" })}>Put originals back …</Button>
      )}
      {may("mend") && <Rules levels={may("treat")} onRule={(rule) => setAct({ kind: "rule", rule })} />}
      {act && (
        <Sure
          library={library}
          filter={filter}
          selection={selection}
          act={act}
          onClose={() => setAct(null)}
        />
      )}
    </div>
  );
}

function Rules({ levels, onRule }: { levels: boolean; onRule: (rule: Rule) => void }) {
  const item = (name: ReactNode, rule: Rule, hint: string) => (
    <DropdownMenu.Item
      key={rule ?? "recipe"}
      onSelect={() => onRule(rule)}
      className="cursor-pointer rounded px-2 py-1.5 text-sm outline-none data-[highlighted]:bg-plum-soft data-[highlighted]:text-plum"
    >
      <span className="font-semibold">{name}</span>
      <span className="block text-xs text-quiet">{hint}</span>
    </DropdownMenu.Item>
  );
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>
        <Button>
          Own rule <ChevronDown size={15} aria-hidden />
        </Button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" sideOffset={4} className="crate z-50 w-72 p-1">
          {item("Leave alone", "leave", "No run touches them, whatever the recipe says.")}
          {item("By the recipe again", null, "Takes their own rule away.")}
          {levels &&
            (Object.keys(LEVELS) as LevelName[]).map((name) =>
              item(LEVELS[name].name, name, LEVELS[name].for),
            )}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

function Sure({
  library,
  filter,
  selection,
  act,
  onClose,
}: {
  library: Library;
  filter: Filter;
  selection: Selection;
  act: Act;
  onClose: () => void;
}) {
  const navigate = useNavigate();
  const start = useStartRun();
  const rules = useSetOverrides(library.slug);
  const { numbers } = selection;
  const [title, does, action] = words(act, library);
  const go = () => {
    if (act.kind === "rule") {
      rules.mutate(
        { ...(numbers ? { pictures: numbers } : { which: asked(filter) }), override: act.rule },
        { onSuccess: onClose },
      );
      return;
    }
    const scope = (numbers ? { pictures: numbers } : { which: asked(filter) }) as RunRequest["scope"];
    start.mutate(
      { library: library.slug, kind: act.kind, scope, force: act.kind === "treat" },
      { onSuccess: (run) => void navigate(`/l/${library.slug}/treat/${run.id}`) },
    );
  };
  const change = act.kind === "rule" ? rules : start;
  return (
    <Confirm
      open
      onClose={onClose}
      title={title}
      action={action}
      busy={change.isPending}
      error={change.error}
      onConfirm={go}
    >
      <p>
        <strong>
          {many(selection.pictures, "picture")}, {many(selection.files, "file")}, {bytes(selection.weight)}
        </strong>
        {numbers === undefined && ": all that the filter finds at this moment"}.
      </p>
      <p>{does}</p>
    </Confirm>
  );
}

function words(act: Act, library: Library): [string, string, string] {
  if (act.kind === "treat")
    return [
      "Treat again",
      `They are made anew from their backups, by the recipe (${library.level}) and their own rules. ` +
        "Every original can be put back afterwards.",
      "Start the run",
    ];
  if (act.kind === "restore")
    return [
      "Put originals back",
      "Their originals take their place again, byte for byte, and our copies are removed. A person can treat " +
        "them again; runs by schedule leave them alone.",
      "Put them back",
    ];
  if (act.rule === "leave")
    return ["Leave alone", "No run touches them from now on. What was done to them stays.", "Leave alone"];
  if (act.rule === null)
    return ["By the recipe again", "Their own rule is taken away; the next run goes by the recipe.", "Do so"];
  return [
    `Always ${LEVELS[act.rule].name}`,
    `The next run makes them at the level ${LEVELS[act.rule].name}, whatever the recipe says. Nothing changes before.`,
    "Set the level",
  ];
}
