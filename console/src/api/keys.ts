/** The names under which answers are kept: one place, so that what is stale is said in the same words. */

import type { JobKind } from "./client";

export const keys = {
  person: ["person"],
  formats: ["formats"],
  machine: ["machine"],
  libraries: ["libraries"],
  savings: (slug: string) => ["savings", slug],
  folders: (slug: string) => ["folders", slug],
  pictures: (slug: string, filters: object) => ["pictures", slug, filters],
  picture: (id: number) => ["picture", id],
  plan: (id: number) => ["plan", id],
  runs: (slug: string) => ["runs", slug],
  run: (id: number) => ["run", id],
  items: (id: number, state: string) => ["items", id, state],
  jobs: (slug: string, kind: JobKind) => ["jobs", slug, kind],
  recipe: (slug: string) => ["recipe", slug],
  effect: (slug: string, settings: unknown) => ["effect", slug, settings],
  backups: (slug: string) => ["backups", slug],
  rules: (slug: string, server: string) => ["rules", slug, server],
  traffic: (slug: string, days: number) => ["traffic", slug, days],
  purges: (slug: string) => ["purges", slug],
  sitePages: (slug: string) => ["sitePages", slug],
  sitePage: (id: number) => ["sitePage", id],
  weighings: (page: number) => ["weighings", page],
  pageHistory: (page: number) => ["pageHistory", page],
  needs: (slug: string) => ["needs", slug],
  people: ["people"],
  settings: ["settings"],
  members: (slug: string) => ["members", slug],
  invitations: (slug: string) => ["invitations", slug],
  keys: (slug: string) => ["keys", slug],
  audit: (slug: string, filter: object) => ["audit", slug, filter],
  sessions: ["sessions"],
  allowance: (slug: string) => ["allowance", slug],
  report: (slug: string, begins: string, ends: string) => ["report", slug, begins, ends],
  reportSettings: (slug: string) => ["reportSettings", slug],
  reports: (slug: string) => ["reports", slug],
  webhook: (slug: string) => ["webhook", slug],
  orphans: (slug: string, offset: number) => ["orphans", slug, offset],
} as const;

/** Nouns, by which all answers of a kind become stale at once. */
export type Noun = { [name in keyof typeof keys]: name }[keyof typeof keys];
