/** What tests of parts share: a service that is made up, a cache, a place to stand. */

import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { fireEvent, render, screen } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter, type Location } from "react-router";
import { vi } from "vitest";
import type { Format, Job, Library, Person, PictureFile, Recipe } from "./api/client";

export const FORMATS: Format[] = [
  ["jpeg", "JPEG", false, true],
  ["png", "PNG", false, false],
  ["gif", "GIF", false, false],
  ["webp", "WebP", true, true],
  ["avif", "AVIF", true, true],
].map(([name, label, copy, knob]) => ({
  name: name as string,
  label: label as string,
  media_type: `image/${String(name)}`,
  endings: [`.${String(name)}`],
  treated: true,
  shaped: true,
  copy_of_others: copy as boolean,
  knob: knob as boolean,
  conversion: false,
  shown: true,
}));

/** Who may do everything in the library of the tests. */
export const PERSON: Person = {
  name: "The keeper",
  email: "keeper@ledge.example",
  service: true,
  second_factor: false,
  access: ["ledge", "other"].map((library) => ({
    library,
    role: "administer",
    abilities: ["look", "mend", "upload", "treat", "administer"],
  })),
};

export const DELIVERY = {
  public: false,
  max_age: 3600,
  address: "https://ledge.example/media",
  base: null,
  markup: {
    rewrite: true,
    elements: false,
    sizes: true,
    dimensions: true,
    backgrounds: true,
    lazy: true,
    eager: 2,
    eager_files: [],
    placeholder: "none",
    alternatives: "missing",
    no_pages: [],
    no_classes: [],
    no_files: [],
    no_endings: [],
  },
  caches: { purge: [], tag_header: null },
};

export const LIBRARY = {
  slug: "ledge",
  name: "Gannet Ledge",
  root: "/srv/ledge",
  recipe_version: 2,
  level: "everyday",
  copy_formats: ["webp", "avif"],
  patterns: [],
  dormant: false,
  created_at: "2026-06-01T00:00:00Z",
  pictures: 12,
  files: 34,
  files_new: 2,
  files_treated: 30,
  files_unreadable: 0,
  files_failed: 0,
  copies: 40,
  bytes_before: 100,
  bytes_now: 60,
  bytes_lightest: 50,
  bytes_backups: 90,
  warnings: [],
  automation: { backups: true },
  delivery: DELIVERY,
  last_survey: null,
} as unknown as Library;

export const RECIPE = {
  library: "ledge",
  version: 2,
  by: "The keeper",
  created_at: "2026-06-01T00:00:00Z",
  settings: {
    level: "everyday",
    copies: ["webp", "avif"],
    keep_larger_copies: false,
    save_data: false,
    document_ppi: 0,
    effort: "normal",
    fixed_quality: { jpeg: null, webp: null, avif: null },
    metadata: ["rights"],
    clear_hidden: true,
    originals: true,
    renditions: "chosen",
    chosen_sizes: ["300x200"],
    largest: { width: 0, height: 0, existing: true },
    sharpening: { amount: 0, radius: 0.6, threshold: 2 },
    sharpen_all: false,
    conversions: {
      photographs_to_jpeg: false,
      flat_to_png: false,
      gif_to_png: false,
      for_the_web: false,
      first_file: "keep",
    },
    rules: [],
  },
} as unknown as Recipe;

export const EFFECT = { files: 9, new: 1, again: 2, settled: 3, left_out: 2, without_backup: 1, by_rule: {} };

export function job(kind: Job["kind"], part: Partial<Job> = {}): Job {
  return {
    id: 5,
    library: "ledge",
    kind,
    state: "finished",
    reason: null,
    by: "",
    mend: false,
    run_id: null,
    created_at: "2026-06-01T00:00:00Z",
    started_at: null,
    finished_at: null,
    ...part,
  } as Job;
}

export const FILE = {
  id: 9,
  path: "2025/kite.jpg",
  role: "original",
  state: "lighter",
  format: "jpeg",
  width: 640,
  height: 480,
  size_before: 1000,
  size_now: 500,
  score: 80.1,
  worst_place: { score: 71.2, left: 0.25, top: 0.5, columns: 2, lost: "000a1d05" },
  derived: [
    {
      purpose: "copy",
      format: "avif",
      width: 640,
      height: 480,
      stands_in: true,
      path: "2025/kite.jpg.avif",
      size: 400,
      score: 80.4,
      worst_place: { score: 60, left: 0.9, top: 0.1, columns: 1, lost: "28" },
      how: "q",
    },
  ],
} as unknown as PictureFile;

type Answers = Record<string, unknown>;
interface Sent {
  method: string;
  path: string;
  query: Record<string, string>;
  basis: string | null;
  body: unknown;
}

/** Those rows as a whole list in one page. */
export function pageOf<T>(rows: T[]) {
  return { rows, total: rows.length, cursor: null };
}

/** Answers as the table says, by method and address; what was sent is in the list that comes back. */
export function serve(answers: Answers): Sent[] {
  const sent: Sent[] = [];
  vi.stubGlobal("fetch", async (request: Request) => {
    const { pathname, searchParams } = new URL(request.url, "http://x");
    const path = pathname.replace("/api/v1", "");
    const text = await request.text();
    sent.push({
      method: request.method,
      path,
      basis: request.headers.get("if-match"),
      query: Object.fromEntries(searchParams),
      body: text && request.headers.get("content-type")?.includes("json") ? JSON.parse(text) : undefined,
    });
    const asked = `${request.method} ${path}`;
    if (answers[asked] === null) return new Response(null, { status: 204 });
    const answer = answers[asked] ?? { "/formats": FORMATS, "/session": PERSON }[path];
    const problem = {
      type: "urn:plumcrate:problem:not-found",
      title: "There is no such thing",
      status: 404,
      detail: path,
    };
    const refused = answer as { type?: unknown; status?: unknown } | undefined;
    const isProblem = typeof refused?.type === "string" && refused.type.startsWith("urn:plumcrate:problem:");
    return new Response(JSON.stringify(answer ?? problem), {
      status: answer === undefined ? 404 : isProblem ? Number(refused.status) : 200,
      headers: { "content-type": "application/json" },
    });
  });
  return sent;
}

/** Renders a part where pages stand, for somebody who is signed in. */
export function show(part: ReactNode, at: string | Partial<Location> = "/", person: Person | null = PERSON) {
  const cache = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  if (person) cache.setQueryData(["person"], person);
  const wrap = (inner: ReactNode) => (
    <QueryClientProvider client={cache}>
      <MemoryRouter initialEntries={[at]}>{inner}</MemoryRouter>
    </QueryClientProvider>
  );
  return { ...render(wrap(part)), cache, wrap };
}

// What jsdom has not, and what Radix asks for.
globalThis.ResizeObserver ??= class {
  observe() {}
  unobserve() {}
  disconnect() {}
};
globalThis.matchMedia ??= ((query: string) => ({
  matches: true,
  media: query,
  addEventListener() {},
  removeEventListener() {},
})) as unknown as typeof matchMedia;
for (const name of ["scrollIntoView", "hasPointerCapture", "releasePointerCapture"] as const)
  if (!(name in Element.prototype)) Object.assign(Element.prototype, { [name]: () => false });

/** Chooses from a select, as somebody with a keyboard does. */
export async function choose(box: HTMLElement, option: string | RegExp) {
  fireEvent.keyDown(box, { key: "Enter" });
  fireEvent.keyDown(await screen.findByRole("option", { name: option }), { key: "Enter" });
}
