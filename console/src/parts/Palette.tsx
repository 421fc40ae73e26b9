/** Everything by keyboard: pages and actions, found by a few letters. */

import { Dialog } from "radix-ui";
import { useEffect, useMemo, useState } from "react";
import { useNavigate } from "react-router";
import type { Library, Person } from "../api/client";
import { useMay } from "../api/people";
import { useFewPictures, useLibraries, usePerson } from "../api/queries";
import { useAtRest } from "../look/rest";
import { addressOf, PAGES, SERVICE } from "../pages";

const REVIEWS = [
  { name: "worst place first", query: "sort=worst" },
  { name: "most saved first", query: "sort=saved" },
  { name: "what failed", query: "state=failed" },
  { name: "what cannot be read", query: "state=unreadable" },
];

interface Command {
  name: string;
  to: string;
}

function elsewhere(person: Person | null | undefined): Command[] {
  const mine = [{ name: "My account: password, second factor, browsers", to: "/me" }];
  if (!person?.service) return mine;
  return [
    ...mine,
    { name: "Connect a library", to: "/connect" },
    { name: "The machine: check it", to: "/machine" },
    ...SERVICE.map(({ path, name }) => ({ name: `The service: ${name}`, to: `/service/${path}` })),
  ];
}

export function Palette({
  open,
  onClose,
  library,
}: {
  open: boolean;
  onClose: () => void;
  library: Library | undefined;
}) {
  const navigate = useNavigate();
  const libraries = useLibraries();
  const person = usePerson().data;
  const may = useMay(library?.slug ?? "");
  const [typed, setTyped] = useState("");
  const [at, setAt] = useState(0);
  useEffect(() => {
    setTyped("");
    setAt(0);
  }, [open]);

  const called = useAtRest(typed.trim(), 200);
  const found = useFewPictures(
    library?.slug ?? "",
    open && library && called.length > 1 ? { search: called, limit: 6 } : undefined,
  );

  const commands = useMemo<Command[]>(() => {
    const here = library
      ? [
          ...PAGES.filter((page) => page.name && (!page.needs || may(page.needs))).map(
            ({ path, name, hint }) => ({ name: `${name}: ${hint}`, to: addressOf(library.slug, path) }),
          ),
          ...REVIEWS.map(({ name, query }) => ({
            name: `Review: ${name}`,
            to: `${addressOf(library.slug, "review")}?${query}`,
          })),
        ]
      : [];
    const others = (libraries.data ?? []).map((one) => ({
      name: `Library: ${one.name}`,
      to: `/l/${one.slug}`,
    }));
    const finding =
      library && typed.trim()
        ? [
            {
              name: `Find pictures called “${typed.trim()}”`,
              to: `/l/${library.slug}/review?search=${encodeURIComponent(typed.trim())}`,
            },
          ]
        : [];
    const words = typed.toLowerCase().split(/\s+/);
    const fitting = [...here, ...others, ...elsewhere(person)].filter(({ name }) =>
      words.every((word) => name.toLowerCase().includes(word)),
    );
    const pictures = (library && typed.trim() === called ? (found.data?.rows ?? []) : []).map((one) => ({
      name: `Picture: ${one.path}`,
      to: addressOf(library!.slug, `review/${one.id}`),
    }));
    return [...fitting, ...pictures, ...finding];
  }, [library, libraries.data, typed, called, found.data, person, may]);

  const go = (command: Command | undefined) => {
    if (!command) return;
    onClose();
    void navigate(command.to);
  };

  return (
    <Dialog.Root open={open} onOpenChange={(now) => !now && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/45" />
        <Dialog.Content
          aria-describedby={undefined}
          className="crate fixed left-1/2 top-[12vh] z-50 w-[min(36rem,calc(100vw-2rem))] -translate-x-1/2 p-2"
        >
          <Dialog.Title className="sr-only">Find a page or command</Dialog.Title>
          <input
            autoFocus
            role="combobox"
            aria-expanded="true"
            aria-controls="palette-list"
            aria-activedescendant={commands[at] ? `palette-${at}` : undefined}
            placeholder="Where to? A page, a library, a picture’s name …"
            className="w-full rounded bg-transparent px-3 py-2.5 text-lg outline-none placeholder:text-quiet"
            value={typed}
            onChange={(event) => {
              setTyped(event.target.value);
              setAt(0);
            }}
            onKeyDown={(event) => {
              if (event.key === "ArrowDown" || event.key === "ArrowUp") {
                event.preventDefault();
                const step = event.key === "ArrowDown" ? 1 : -1;
                setAt((at + step + commands.length) % Math.max(commands.length, 1));
              }
              if (event.key === "Enter") go(commands[at]);
            }}
          />
          <ul id="palette-list" role="listbox" className="max-h-80 overflow-y-auto border-t border-line pt-1">
            {commands.map((command, index) => (
              // eslint-disable-next-line jsx-a11y/click-events-have-key-events -- the field above hears the keys
              <li
                key={command.to}
                id={`palette-${index}`}
                role="option"
                aria-selected={index === at}
                onMouseMove={() => setAt(index)}
                onClick={() => go(command)}
                className={`cursor-pointer rounded px-3 py-2 text-sm ${index === at ? "bg-plum-soft text-plum" : ""}`}
              >
                {command.name}
              </li>
            ))}
          </ul>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
