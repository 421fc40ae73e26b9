/** What the console asks about serving: how files get to visitors, and what was sent. */

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "./client";
import { keys } from "./keys";
import { stale } from "./queries";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Delivery = Schemas["Delivery"];
export type Markup = Schemas["Markup"];
export type AskReport = Schemas["AskReport"];
export type Asked = Schemas["Asked"];
export type Sent = Schemas["Sent"];
export type Traffic = Schemas["Traffic"];
export type ServerKind = Schemas["ServerKind"];

export function useChangeDelivery(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (delivery: Partial<Delivery>) =>
      ask(api.PATCH("/api/v1/libraries/{slug}", { params: { path: { slug } }, body: { delivery } })),
    onSuccess: () => stale(cache, ["libraries", "rules", "purges"]),
  });
}

export function useServerRules(slug: string, server: ServerKind, address: string | null) {
  return useQuery({
    queryKey: keys.rules(slug, server),
    enabled: address !== null,
    queryFn: async (): Promise<string> =>
      ask(
        api.GET("/api/v1/libraries/{slug}/server-rules/{server}", {
          params: { path: { slug, server } },
          parseAs: "text",
        }),
      ),
  });
}

export function useAsk(slug: string) {
  return useMutation({
    mutationFn: (body: { path?: string; page?: string }) =>
      ask(
        api.POST("/api/v1/libraries/{slug}/asking", {
          params: { path: { slug } },
          body: { most: 20, ...body },
        }),
      ),
  });
}

export function useTraffic(slug: string, days: number) {
  return useQuery({
    queryKey: keys.traffic(slug, days),
    queryFn: () =>
      ask(api.GET("/api/v1/libraries/{slug}/traffic", { params: { path: { slug }, query: { days } } })),
    refetchInterval: 30_000,
  });
}

/** Pages that could not be rewritten, and so left as their authors wrote them. */
export function usePageFaults(slug: string) {
  return useQuery({
    queryKey: keys.pageFaults(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/page-faults", { params: { path: { slug } } })),
    refetchInterval: 60_000,
  });
}

export function usePurges(slug: string) {
  return useQuery({
    queryKey: keys.purges(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/purges", { params: { path: { slug } } })),
    refetchInterval: 5_000,
  });
}
