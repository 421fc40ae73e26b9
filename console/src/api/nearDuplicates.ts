/** Groups of pictures that show the same, and what a person says of them. */

import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "./client";
import { keys } from "./keys";
import { stale } from "./queries";
import type { components } from "./schema.gen";

export type NearDuplicate = components["schemas"]["NearDuplicate"];
export type NearDuplicateGroup = components["schemas"]["NearDuplicateGroup"];

const PAGE = 12;

/** Those with most bytes to spare first, as far as the list is read. */
export function useNearDuplicates(slug: string) {
  return useInfiniteQuery({
    queryKey: keys.nearDuplicates(slug),
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/api/v1/libraries/{slug}/near-duplicates", {
          params: { path: { slug }, query: { limit: PAGE, ...(pageParam && { after: pageParam }) } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.cursor ?? undefined,
  });
}

/** Says that a picture shows something else, or takes that back. */
export function useKeepApart() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ picture, apart }: { picture: number; apart: boolean }) =>
      ask(
        api.PUT("/api/v1/pictures/{picture_id}/kept-apart", {
          params: { path: { picture_id: picture } },
          body: { apart },
        }),
      ),
    onSuccess: () => stale(cache, ["nearDuplicates"]),
  });
}

/** Answers a picture with another; with none: with itself again. */
export function useRedirect() {
  const cache = useQueryClient();
  return useMutation<unknown, Error, { picture: number; to: number | null }>({
    mutationFn: ({ picture, to }) => {
      const params = { path: { picture_id: picture } };
      return to === null
        ? ask(api.DELETE("/api/v1/pictures/{picture_id}/redirect", { params }))
        : ask(api.PUT("/api/v1/pictures/{picture_id}/redirect", { params, body: { picture_id: to } }));
    },
    onSuccess: () => stale(cache, ["nearDuplicates"]),
  });
}
