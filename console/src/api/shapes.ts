/** Sizes, cuts, touch-ups and watermarks: what is asked, and what a change makes stale. */

import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, Problem } from "./client";
import { keys } from "./keys";
import { stale } from "./queries";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type NamedSize = Schemas["NamedSize"];
export type SizeSettings = Schemas["SizeSettings"];
export type UnusedSize = Schemas["UnusedSize"];
export type SizeEffect = Schemas["SizeEffect"];
export type Cuts = Schemas["Cuts"];
export type Cut = Schemas["Cut"];
export type TouchedPicture = Schemas["TouchedPicture"];
export type Touch = TouchedPicture["steps"][number];
export type WatermarkRule = Schemas["WatermarkRule"];
export type WatermarkSettings = Schemas["WatermarkSettings"];

export const NEW_SIZE: SizeSettings = {
  way: "fit",
  width: 520,
  height: 0,
  densities: [1],
  widths: [],
  anchor: "focus",
  grey: false,
  format: null,
  level: null,
  copies: null,
  sharpening: { amount: 0, radius: 0.6, threshold: 2 },
  pattern: "{stem}-{name}-{width}{ext}",
  when: {
    folder: null,
    name: null,
    formats: null,
    role: null,
    smaller_than: null,
    larger_than: null,
    longest_side_under: null,
    longest_side_over: null,
    transparent: null,
    animated: null,
  },
};

export const NEW_WATERMARK: WatermarkSettings = {
  when: NEW_SIZE.when,
  originals: true,
  sizes: null,
  words: "",
  place: "bottom-right",
  width: 0.2,
  margin: 0.03,
  opacity: 0.6,
  least: 60,
  tone: "under",
};

export function useSizes(slug: string) {
  return useQuery({
    queryKey: keys.sizes(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/sizes", { params: { path: { slug } } })),
  });
}

/** What a size would do; settings null: were it removed. */
export function useSizeEffect(slug: string, name: string, settings: SizeSettings | null | undefined) {
  return useQuery({
    queryKey: keys.sizeEffect(slug, name, settings),
    enabled: settings !== undefined && name !== "",
    retry: false,
    placeholderData: (former: SizeEffect | undefined) => former,
    queryFn: () =>
      ask(
        api.POST("/api/v1/libraries/{slug}/sizes/{name}/effect", {
          params: { path: { slug, name } },
          body: { settings: settings ?? null },
        }),
      ),
  });
}

export function useSaveSize(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ name, settings }: { name: string; settings: SizeSettings }) =>
      ask(
        api.PUT("/api/v1/libraries/{slug}/sizes/{name}", {
          params: { path: { slug, name } },
          body: settings,
        }),
      ),
    onSuccess: () => stale(cache, ["sizes", "sizeEffect", "cuts", "effect"]),
  });
}

export function useRemoveSize(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (name: string) =>
      ask(api.DELETE("/api/v1/libraries/{slug}/sizes/{name}", { params: { path: { slug, name } } })),
    onSuccess: () => stale(cache, ["sizes", "sizeEffect", "cuts", "effect"]),
  });
}

export function useUnused(slug: string, days: number) {
  return useQuery({
    queryKey: keys.unused(slug, days),
    placeholderData: keepPreviousData,
    queryFn: () =>
      ask(api.GET("/api/v1/libraries/{slug}/unused-sizes", { params: { path: { slug }, query: { days } } })),
  });
}

/** Removes what nobody asked for within so many days; none: brings back what was removed. */
export function useRemoveUnused(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (days: number | null) =>
      days === null
        ? ask(
            api.POST("/api/v1/libraries/{slug}/unused-sizes/bring-back", {
              params: { path: { slug } },
              body: {},
            }),
          )
        : ask(
            api.POST("/api/v1/libraries/{slug}/unused-sizes/remove", {
              params: { path: { slug } },
              body: { days },
            }),
          ),
    onSuccess: () => stale(cache, ["sizes", "sizeEffect", "unused"]),
  });
}

export function useLadder(slug: string) {
  return useMutation({
    mutationFn: (body: { least: number; most: number; step: number }) =>
      ask(api.POST("/api/v1/libraries/{slug}/ladder", { params: { path: { slug } }, body })),
  });
}

export function useCuts(picture: number, asked = true) {
  return useQuery({
    queryKey: keys.cuts(picture),
    enabled: asked,
    retry: false,
    queryFn: () =>
      ask(api.GET("/api/v1/pictures/{picture_id}/cuts", { params: { path: { picture_id: picture } } })),
  });
}

export function useSetFocus(picture: number) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (focus: { x: number; y: number } | null) =>
      ask(
        api.PUT("/api/v1/pictures/{picture_id}/focus", {
          params: { path: { picture_id: picture } },
          body: { focus },
        }),
      ),
    onSuccess: (cuts) => {
      cache.setQueryData(keys.cuts(picture), cuts);
      stale(cache, ["plan", "effect", "sizes"]);
    },
  });
}

export function useTouches(picture: number) {
  return useQuery({
    queryKey: keys.touches(picture),
    queryFn: () =>
      ask(api.GET("/api/v1/pictures/{picture_id}/touches", { params: { path: { picture_id: picture } } })),
  });
}

export function useTouchUp(picture: number) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: { steps: Touch[]; original: string }) =>
      ask(
        api.PUT("/api/v1/pictures/{picture_id}/touches", { params: { path: { picture_id: picture } }, body }),
      ),
    onSuccess: (touched) => {
      cache.setQueryData(keys.touches(picture), touched);
      stale(cache, ["picture", "pictures", "plan", "effect", "cuts"]);
    },
  });
}

export interface View {
  data: Blob;
  width: number;
  height: number;
}

/** What steps would make of a picture: the whole of it small, or a part at its own size. */
export function useView(
  picture: number,
  area: { steps: Touch[]; whole: boolean; left: number; top: number; width: number; height: number },
) {
  return useQuery({
    queryKey: keys.view(picture, area),
    retry: false,
    gcTime: 20_000,
    staleTime: Infinity,
    placeholderData: keepPreviousData,
    queryFn: async ({ signal }): Promise<View> => {
      const { data, response, error } = await api.POST("/api/v1/pictures/{picture_id}/view", {
        params: { path: { picture_id: picture } },
        body: area,
        parseAs: "blob",
        signal,
      });
      if (!response.ok || data === undefined) {
        const body = (error ?? {}) as unknown as { title?: string; detail?: string };
        throw new Problem(
          body.title ?? `The service answered ${response.status}`,
          body.detail ?? "",
          response.status,
          "view",
        );
      }
      const [width = 0, height = 0] = (response.headers.get("Plumcrate-Size") ?? "").split("x").map(Number);
      return { data: data, width, height };
    },
  });
}

export function useWatermarks(slug: string) {
  return useQuery({
    queryKey: keys.watermarks(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/watermarks", { params: { path: { slug } } })),
  });
}

export function useSaveWatermark(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: async ({
      name,
      settings,
      picture,
    }: {
      name: string;
      settings: WatermarkSettings;
      picture: File | null;
    }) => {
      const saved = await ask(
        api.PUT("/api/v1/libraries/{slug}/watermarks/{name}", {
          params: { path: { slug, name } },
          body: settings,
        }),
      );
      if (picture === null) return saved;
      return ask(
        api.PUT("/api/v1/libraries/{slug}/watermarks/{name}/picture", {
          params: { path: { slug, name } },
          body: picture as unknown as string,
          bodySerializer: (body) => body as unknown as Blob,
          headers: { "Content-Type": "application/octet-stream" },
        }),
      );
    },
    onSettled: () => stale(cache, ["watermarks", "effect", "plan"]),
  });
}

export function useRemoveWatermark(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (name: string) =>
      ask(api.DELETE("/api/v1/libraries/{slug}/watermarks/{name}", { params: { path: { slug, name } } })),
    onSuccess: () => stale(cache, ["watermarks", "effect", "plan"]),
  });
}

export function watermarkUrl(slug: string, name: string, stamp: string): string {
  return `/api/v1/libraries/${slug}/watermarks/${name}/picture?t=${encodeURIComponent(stamp)}`;
}
