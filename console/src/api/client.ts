/** The typed client of the service and the errors it answers with (RFC 9457). */

import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";

type Schemas = components["schemas"];
export type Library = Schemas["Library"];
export type Job = Schemas["Job"];
export type JobKind = Job["kind"];
export type CopyFormat = Schemas["CopyFormat"];
export type Format = Schemas["Format"];
export type WorstPlace = Schemas["WorstPlace"];
export type Derived = Schemas["Derived"];
export type Picture = Schemas["Picture"];
export type Facets = Schemas["Facets"];
export type PictureDetail = Schemas["PictureDetail"];
export type PictureFile = Schemas["File"];
export type Run = Schemas["Run"];
export type RunRequest = Schemas["RunRequest"];
export type Item = Schemas["Item"];
export type Savings = Schemas["Savings"];
export type SlatFigures = Schemas["Slat"];
export type Person = Schemas["Person"];
export type Recipe = Schemas["Recipe"];
export type RecipeSettings = Schemas["RecipeSettings"];
export type Rule = Schemas["Rule"];
export type Trial = Schemas["Trial"];
export type Effect = Schemas["Effect"];
export type Plan = Schemas["FilePlan"];
export type Automation = Schemas["Automation"];
export type Backups = Schemas["Backups"];
export type CheckReport = Schemas["CheckReport"];
export type Outlook = Schemas["Outlook"];
export type Machine = Schemas["Machine"];
export type FolderProposal = Schemas["FolderProposal"];
export type Orphan = Schemas["Orphan"];

export class Problem extends Error {
  constructor(
    readonly title: string,
    readonly detail: string,
    readonly status: number,
    readonly code: string,
  ) {
    super(detail ? `${title}: ${detail}` : title);
  }
}

export const api = createClient<paths>({
  baseUrl: globalThis.location?.origin ?? "/",
  credentials: "same-origin",
  fetch: (request) => fetch(request),
});

/** The version of what was read last, by its address: whoever changes it sends it along, and overwrites nothing
 * that somebody else changed meanwhile. */
const tags = new Map<string, string>();

/** Notes the version of something that came in a list. */
export function noteTag(path: string, tag: string): void {
  if (tag) tags.set(path, tag);
}

api.use({
  onRequest({ request }) {
    const tag = tags.get(new URL(request.url).pathname);
    const changes = request.method === "PUT" || request.method === "PATCH";
    if (tag !== undefined && changes && !request.headers.has("if-match"))
      request.headers.set("if-match", tag);
  },
  onResponse({ request, response }) {
    if (response.ok) noteTag(new URL(request.url).pathname, response.headers.get("etag") ?? "");
  },
});

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** The data of an answer; throws a Problem when the service refused or did not answer. */
export async function ask<T>(request: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await request;
  } catch {
    throw new Problem("The service does not answer", "check that it runs, then try again", 0, "unreachable");
  }
  if (answer.response.ok) return answer.data as T;
  const body = (answer.error ?? {}) as { title?: string; detail?: string; type?: string };
  throw new Problem(
    body.title ?? `The service answered ${answer.response.status}`,
    body.detail ?? "",
    answer.response.status,
    body.type?.split(":").pop() ?? "unknown",
  );
}

/** The rows of one page of a list. */
export async function rowsOf<T>(request: Promise<Answer<{ rows: T[] }>>): Promise<T[]> {
  return (await ask(request)).rows;
}

export function contentUrl(fileId: number, version: string, stamp: string | number = ""): string {
  return `/api/v1/files/${fileId}/content?version=${version}&t=${encodeURIComponent(stamp)}`;
}

export function previewUrl(fileId: number, width: number, stamp: string | number, version = "now"): string {
  const which = version === "now" ? "" : `&version=${version}`;
  return `/api/v1/files/${fileId}/preview?width=${width}${which}&t=${stamp}`;
}
