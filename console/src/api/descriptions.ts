/** What the console asks about descriptions, and how it saves them while somebody types. */

import {
  useInfiniteQuery,
  useMutation,
  useQuery,
  useQueryClient,
  type InfiniteData,
  type QueryClient,
} from "@tanstack/react-query";
import { useCallback } from "react";
import { api, ask } from "./client";
import { keys } from "./keys";
import { stale } from "./queries";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Description = Schemas["Description"];
export type DescriptionRule = Schemas["DescriptionRule"];
export type DescriptionSettings = Schemas["DescriptionSettings"];
export type DescriptionsSummary = Schemas["DescriptionsSummary"];
export type Texts = Required<Schemas["Texts"]>;
export type BulkRequest = Schemas["BulkRequest"];
export type BulkResult = Schemas["BulkResult"];
export type ImportResult = Schemas["ImportResult"];
type List = InfiniteData<Schemas["DescriptionPage"], string>;

export interface DescriptionFilter {
  wanting: DescriptionRule[];
  search: string;
  page_id: number | null;
}

const PAGE = 30;
const path = (slug: string) => ({ params: { path: { slug } } });

/** What a filter is on the wire: only what is chosen. */
export function askedFor({ wanting, search, page_id }: DescriptionFilter) {
  return { ...(wanting.length && { wanting }), ...(search && { search }), ...(page_id && { page_id }) };
}

/** Pictures by path, described or not, as far as the list is read. */
export function useDescriptions(slug: string, language: string, filter: DescriptionFilter) {
  const cache = useQueryClient();
  return useInfiniteQuery({
    queryKey: keys.descriptions(slug, language, filter),
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/api/v1/libraries/{slug}/descriptions", {
          params: {
            path: { slug },
            query: {
              language,
              ...askedFor(filter),
              limit: PAGE,
              previews: true,
              ...(pageParam && { after: pageParam }),
            },
          },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.cursor ?? undefined,
    select: useCallback((list: List) => withNewest(cache, list), [cache]),
    // What is described leaves no list under the hands of who describes.
    refetchOnWindowFocus: false,
  });
}

export function useDescribedSummary(slug: string, language: string) {
  return useQuery({
    queryKey: keys.describedSummary(slug, language),
    queryFn: () =>
      ask(
        api.GET("/api/v1/libraries/{slug}/descriptions/summary", {
          params: { path: { slug }, query: { language } },
        }),
      ),
    placeholderData: (former: DescriptionsSummary | undefined) => former,
  });
}

export function usePictureDescriptions(picture_id: number) {
  return useQuery({
    queryKey: keys.describedPicture(picture_id),
    queryFn: () => fetchOf(picture_id),
  });
}

const fetchOf = (picture_id: number) =>
  ask(api.GET("/api/v1/pictures/{picture_id}/descriptions", { params: { path: { picture_id } } }));

/** Saves one description, unless somebody else changed it since `version`: then the error says who. */
export function saveDescription(picture_id: number, language: string, texts: Texts, version: number) {
  return ask(
    api.PUT("/api/v1/pictures/{picture_id}/descriptions/{language}", {
      params: { path: { picture_id, language }, header: { "if-match": `"${version}"` } },
      body: texts,
    }),
  );
}

/** With descriptions as they came last: a page of a list may be under way while another row of it is saved. */
function withNewest(cache: QueryClient, list: List): List {
  const asOfNow = (row: Description) => {
    const known = cache.getQueryData<Description>(keys.description(row.picture_id, row.language));
    return known && known.version > row.version ? known : row;
  };
  return { ...list, pages: list.pages.map((page) => ({ ...page, rows: page.rows.map(asOfNow) })) };
}

/** Puts a description as it is now wherever it is shown; lists keep their order. */
export function takeDescription(cache: QueryClient, now: Description): void {
  cache.setQueryData(keys.description(now.picture_id, now.language), now);
  const replaced = (one: Description) =>
    one.picture_id === now.picture_id && one.language === now.language ? now : one;
  cache.setQueriesData<List>({ queryKey: ["descriptions", now.library, now.language] }, (list) =>
    list?.pages.some((page) => page.rows.some((one) => one.picture_id === now.picture_id))
      ? { ...list, pages: list.pages.map((page) => ({ ...page, rows: page.rows.map(replaced) })) }
      : list,
  );
  cache.setQueryData<Description[]>(keys.describedPicture(now.picture_id), (all) => all?.map(replaced));
}

/** Counting a large library takes a while, and somebody who writes fast saves every second. */
const COUNTED_EVERY = 5000;
const waiting = new WeakSet<QueryClient>();

function countAgain(cache: QueryClient): void {
  if (waiting.has(cache)) return;
  waiting.add(cache);
  setTimeout(() => {
    waiting.delete(cache);
    stale(cache, ["describedSummary"]);
  }, COUNTED_EVERY);
}

/** Somebody described a picture: whoever shows it is shown the new words. */
export async function lookAgain(cache: QueryClient, picture_id: number): Promise<void> {
  const shown = cache
    .getQueriesData<List>({ queryKey: ["descriptions"], type: "active" })
    .some(([, list]) => list?.pages.some((page) => page.rows.some((one) => one.picture_id === picture_id)));
  const alone = cache.getQueryData(keys.describedPicture(picture_id)) !== undefined;
  countAgain(cache);
  if (!shown && !alone) return;
  for (const one of await fetchOf(picture_id)) takeDescription(cache, one);
}

export function useChangeMany(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: BulkRequest) =>
      ask(api.POST("/api/v1/libraries/{slug}/descriptions/change", { ...path(slug), body })),
    onSuccess: (result) => {
      if (result.change != null) changed(cache);
    },
  });
}

export function useDescriptionChanges(slug: string, enabled: boolean) {
  return useQuery({
    queryKey: keys.descriptionChanges(slug),
    enabled,
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/description-changes", path(slug))),
  });
}

export function useUndoDescriptions(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (change_id: number) =>
      ask(
        api.POST("/api/v1/libraries/{slug}/description-changes/{change_id}/undo", {
          params: { path: { slug, change_id } },
        }),
      ),
    onSuccess: () => changed(cache),
  });
}

const changed = (cache: QueryClient) =>
  stale(cache, ["descriptions", "describedSummary", "descriptionChanges", "describedPicture"]);

export function useDescriptionSettings(slug: string) {
  return useQuery({
    queryKey: keys.descriptionSettings(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/description-settings", path(slug))),
  });
}

export function useSaveDescriptionSettings(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: DescriptionSettings) =>
      ask(api.PUT("/api/v1/libraries/{slug}/description-settings", { ...path(slug), body })),
    onSuccess: (settings) => {
      cache.setQueryData(keys.descriptionSettings(slug), settings);
      changed(cache);
    },
  });
}

/** Takes in a file by its ending: a table, or a translation. With `preview` it only tells what would change. */
export function useImport(slug: string, language: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ file, preview }: { file: File; preview: boolean }) => {
      const more = {
        body: file as never,
        bodySerializer: (body: unknown) => body as Blob,
        headers: { "content-type": "application/octet-stream" },
      };
      return /\.(xlf|xliff)$/i.test(file.name)
        ? ask(
            api.PUT("/api/v1/libraries/{slug}/descriptions/xliff", {
              params: { path: { slug }, query: { preview } },
              ...more,
            }),
          )
        : ask(
            api.PUT("/api/v1/libraries/{slug}/descriptions/csv", {
              params: { path: { slug }, query: { preview, language } },
              ...more,
            }),
          );
    },
    onSuccess: (result) => {
      if (result.changes.length) changed(cache);
    },
  });
}

export function useTakeTerms(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (file: File) =>
      ask(
        api.PUT("/api/v1/libraries/{slug}/search-terms", {
          ...path(slug),
          body: file as never,
          bodySerializer: (body: unknown) => body as Blob,
          headers: { "content-type": "text/csv" },
        }),
      ),
    onSuccess: () => changed(cache),
  });
}
