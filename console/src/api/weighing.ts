/** What the console asks about pages: what they weigh, what a recipe would make of them, what is noted. */

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, rowsOf } from "./client";
import { keys } from "./keys";
import { stale, takeJob } from "./queries";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type SitePage = Schemas["SitePage"];
export type Weighing = Schemas["Weighing"];
export type Reading = Schemas["Reading"];
export type PagePicture = Schemas["PagePicture"];
export type PageFinding = Schemas["PageFinding"];
export type Point = Schemas["Point"];
export type Device = Schemas["Device"];
export type Budget = Schemas["Budget"];
export type WhatIf = Schemas["WhatIfInput"];
export type WeighRequest = Schemas["WeighRequest"];
export type PageSettings = Schemas["PageSettings"];

export function useSitePages(slug: string) {
  return useQuery({
    queryKey: keys.sitePages(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/site-pages", { params: { path: { slug } } })),
  });
}

export function useWeighings(page: number) {
  return useQuery({
    queryKey: keys.weighings(page),
    queryFn: () =>
      rowsOf(
        api.GET("/api/v1/site-pages/{page_id}/weighings", {
          params: { path: { page_id: page }, query: { limit: 40 } },
        }),
      ),
  });
}

export function useSitePage(page: number) {
  return useQuery({
    queryKey: keys.sitePage(page),
    queryFn: () => ask(api.GET("/api/v1/site-pages/{page_id}", { params: { path: { page_id: page } } })),
  });
}

export function useHistory(page: number) {
  return useQuery({
    queryKey: keys.pageHistory(page),
    queryFn: () =>
      ask(api.GET("/api/v1/site-pages/{page_id}/history", { params: { path: { page_id: page } } })),
  });
}

export function useWeigh(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: Partial<WeighRequest>) =>
      ask(
        api.POST("/api/v1/libraries/{slug}/weighings", {
          params: { path: { slug } },
          body: { devices: ["desktop", "phone"], passes: 3, plain: false, ...body },
        }),
      ),
    onSuccess: (job) => takeJob(cache, job),
  });
}

export function useChangePage(slug: string, address: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: PageSettings) =>
      ask(
        api.PUT("/api/v1/libraries/{slug}/site-pages", {
          params: { path: { slug }, query: { address } },
          body,
        }),
      ),
    onSuccess: () => stale(cache, ["sitePages", "sitePage", "weighings"]),
  });
}

export function useForgetPage() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (page: number) =>
      ask(api.DELETE("/api/v1/site-pages/{page_id}", { params: { path: { page_id: page } } })),
    onSuccess: () => stale(cache, ["sitePages"]),
  });
}

export function useTreatPage() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ weighing, everything }: { weighing: number; everything: boolean }) =>
      ask(
        api.POST("/api/v1/weighings/{weighing_id}/run", {
          params: { path: { weighing_id: weighing } },
          body: { everything },
        }),
      ),
    onSuccess: () => stale(cache, ["runs"]),
  });
}

export function useNoteNeed(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ weighing, device, number }: { weighing: number; device: Device; number: number }) =>
      ask(
        api.POST("/api/v1/weighings/{weighing_id}/needs", {
          params: { path: { weighing_id: weighing } },
          body: { device, number },
        }),
      ),
    onSuccess: (needs) => cache.setQueryData(keys.needs(slug), needs),
  });
}

export function useNeeds(slug: string) {
  return useQuery({
    queryKey: keys.needs(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/needs", { params: { path: { slug } } })),
  });
}

export const shotUrl = (slug: string, shot: number) => `/api/v1/libraries/${slug}/shots/${shot}`;
