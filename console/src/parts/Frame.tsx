/** The frame round every page: the label of the crate, the way through the work, the run under way. */

import { useQueryClient } from "@tanstack/react-query";
import {
  ChevronsUpDown,
  KeyRound,
  LogOut,
  Moon,
  Plus,
  ScrollText,
  Search,
  SlidersHorizontal,
  Stethoscope,
  Sun,
  UserRound,
  Users,
} from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { useEffect, useState, type ReactNode } from "react";
import { Link, NavLink, useLocation, useNavigate } from "react-router";
import { keep, kept } from "../look/kept";
import { api, type Library, type Person } from "../api/client";
import { useLibraries, useRuns } from "../api/queries";
import { useMay } from "../api/people";
import { count, many } from "../look/words";
import { addressOf, SERVICE, WORK, under } from "../pages";
import { Palette } from "./Palette";

/** Pages that are of no library show the way back into the one that was looked at last. */
function useLibraryOfFrame(library: Library | undefined): Library | undefined {
  const libraries = useLibraries();
  const last = kept("library");
  return library ?? libraries.data?.find((known) => known.slug === last) ?? libraries.data?.[0];
}

export function Frame({
  person,
  library: given,
  children,
}: {
  person: Person;
  library?: Library;
  children: ReactNode;
}) {
  const library = useLibraryOfFrame(given);
  const location = useLocation();
  const may = useMay(library?.slug ?? "");
  const [palette, setPalette] = useState(false);
  useEffect(() => {
    if (given) keep("library", given.slug);
  }, [given]);
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if ((event.metaKey || event.ctrlKey) && event.key.toLowerCase() === "k") {
        event.preventDefault();
        setPalette((open) => !open);
      }
    };
    addEventListener("keydown", onKey);
    return () => removeEventListener("keydown", onKey);
  }, []);
  return (
    <div className="group/page min-h-screen">
      <a
        href="#page"
        className="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:bg-surface focus:p-2"
      >
        Skip to the page
      </a>
      <header className="sticky top-0 z-30 border-b border-line bg-surface [@media(max-height:500px)]:static">
        <div className="mx-auto flex max-w-7xl flex-wrap items-center gap-x-5 gap-y-1 px-4 py-2 group-has-[[data-wide]]/page:max-w-[110rem] sm:px-6">
          <Link to="/" className="flex items-center gap-2 font-serif text-xl font-semibold text-ink">
            <img src="/mark.svg" alt="" className="h-7 w-7" />
            <span className="hidden md:inline">Plum Crate</span>
          </Link>
          <LibraryMenu library={library} connects={person.service} />
          {library && (
            <nav aria-label="The work" className="order-last flex w-full gap-1 sm:order-none sm:w-auto">
              {WORK.filter(({ needs }) => !needs || may(needs)).map(({ path, name, hint }) => (
                <NavLink
                  key={path}
                  to={addressOf(library.slug, path)}
                  end={path === ""}
                  title={hint}
                  className={({ isActive: here }) => {
                    const isActive =
                      here ||
                      (path === "" &&
                        under("Look").some(
                          (page) =>
                            page.path && location.pathname.startsWith(addressOf(library.slug, page.path)),
                        ));
                    return `flex-1 rounded-[5px] px-3 py-1.5 text-center text-sm font-semibold transition sm:flex-none ${
                      isActive ? "bg-plum-soft text-plum" : "text-quiet hover:text-plum"
                    }`;
                  }}
                >
                  {name}
                </NavLink>
              ))}
            </nav>
          )}
          <div className="ml-auto flex items-center gap-1">
            <IconButton label="Find a page or command (Ctrl K)" onClick={() => setPalette(true)}>
              <Search size={18} />
            </IconButton>
            <ThemeButton />
            <PersonMenu person={person} />
          </div>
        </div>
        {library && <UnderWay library={library} />}
      </header>
      <main
        id="page"
        className="mx-auto max-w-7xl px-4 py-6 group-has-[[data-wide]]/page:max-w-[110rem] sm:px-6 sm:py-8"
      >
        {children}
      </main>
      <Palette open={palette} onClose={() => setPalette(false)} library={library} />
    </div>
  );
}

function IconButton({
  label,
  onClick,
  children,
}: {
  label: string;
  onClick: () => void;
  children: ReactNode;
}) {
  return (
    <button
      type="button"
      aria-label={label}
      title={label}
      onClick={onClick}
      className="rounded-[5px] p-2 text-quiet hover:bg-plum-soft hover:text-plum"
    >
      {children}
    </button>
  );
}

function ThemeButton() {
  const [dark, setDark] = useState(document.documentElement.dataset.theme === "dark");
  const change = () => {
    const theme = dark ? "light" : "dark";
    document.documentElement.dataset.theme = theme;
    keep("theme", theme);
    setDark(!dark);
  };
  return (
    <IconButton label={dark ? "Use light colours" : "Use dark colours"} onClick={change}>
      {dark ? <Sun size={18} /> : <Moon size={18} />}
    </IconButton>
  );
}

const ICONS: Record<string, ReactNode> = {
  people: <Users size={16} />,
  keys: <KeyRound size={16} />,
  audit: <ScrollText size={16} />,
  machine: <Stethoscope size={16} />,
  settings: <SlidersHorizontal size={16} />,
};

const MENU = "crate z-50 min-w-52 p-1";
const ENTRY =
  "flex cursor-pointer items-center gap-2 rounded px-3 py-2 text-sm outline-none data-[highlighted]:bg-plum-soft data-[highlighted]:text-plum";

function LibraryMenu({ library, connects }: { library: Library | undefined; connects: boolean }) {
  const libraries = useLibraries();
  const navigate = useNavigate();
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="flex min-w-0 max-w-[60vw] items-center gap-1.5 rounded-[5px] border border-line px-3 py-1.5 text-sm font-semibold hover:border-plum sm:max-w-64">
        <span className="truncate">{library?.name ?? "Choose a library"}</span>
        <ChevronsUpDown size={14} className="shrink-0 text-quiet" />
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="start" sideOffset={4} className={MENU}>
          {libraries.data?.map((one) => (
            <DropdownMenu.Item
              key={one.slug}
              className={ENTRY}
              onSelect={() => void navigate(`/l/${one.slug}`)}
            >
              <span className="flex-1">{one.name}</span>
              <span className="text-xs text-quiet">{count(one.pictures)} pictures</span>
            </DropdownMenu.Item>
          ))}
          {connects && <DropdownMenu.Separator className="my-1 h-px bg-line" />}
          {connects && (
            <DropdownMenu.Item className={ENTRY} onSelect={() => void navigate("/connect")}>
              <Plus size={16} /> Connect a library
            </DropdownMenu.Item>
          )}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

function PersonMenu({ person }: { person: Person }) {
  const navigate = useNavigate();
  const cache = useQueryClient();
  const signOut = async () => {
    await api.DELETE("/api/v1/session");
    cache.clear();
    location.assign("/");
  };
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        aria-label={`Signed in as ${person.name}`}
        className="ml-1 flex h-8 w-8 items-center justify-center rounded-full bg-plum font-serif text-on-plum"
      >
        {person.name.slice(0, 1).toUpperCase()}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" sideOffset={4} className={MENU}>
          <div className="px-3 py-2 text-sm">
            <div className="font-semibold">{person.name}</div>
            <div className="text-quiet">{person.email}</div>
            <div className="text-quiet">
              {person.service
                ? "Administers the service"
                : many(person.access.length, "library", "libraries")}
            </div>
          </div>
          <DropdownMenu.Separator className="my-1 h-px bg-line" />
          <DropdownMenu.Item className={ENTRY} onSelect={() => void navigate("/me")}>
            <UserRound size={16} /> My account
          </DropdownMenu.Item>
          {person.service &&
            SERVICE.map(({ path, name }) => (
              <DropdownMenu.Item
                key={path}
                className={ENTRY}
                onSelect={() => void navigate(`/service/${path}`)}
              >
                {ICONS[path]} {name}
              </DropdownMenu.Item>
            ))}
          <DropdownMenu.Item className={ENTRY} onSelect={() => void signOut()}>
            <LogOut size={16} /> Sign out
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** The run under way, as one thin slat that every page shows. */
function UnderWay({ library }: { library: Library }) {
  const runs = useRuns(library.slug);
  const open = runs.data?.find((run) => run.state === "running" || run.state === "paused");
  if (!open) return null;
  const ended = open.files - open.left;
  const said = `Run ${open.id}, ${open.state}: ${count(ended)} of ${count(open.files)} files`;
  return (
    <Link
      to={`/l/${library.slug}/treat/${open.id}`}
      title={said}
      aria-label={said}
      className="block h-1.5 bg-sunken"
    >
      <div
        className={`h-full transition-[width] duration-500 ${open.state === "paused" ? "bg-clay" : "bg-plum"}`}
        style={{ width: `${(100 * ended) / Math.max(open.files, 1)}%` }}
      />
    </Link>
  );
}
