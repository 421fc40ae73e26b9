/** Every question the console asks, by noun, and what a change makes stale. */

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, type Effect, type Library, type RecipeSettings, type RunRequest, type Upkeep } from "./client";

export function usePerson() {
  return useQuery({
    queryKey: ["person"],
    queryFn: () => ask(api.GET("/api/v1/session")),
    retry: false,
    staleTime: Infinity,
  });
}

export function useLibraries() {
  return useQuery({ queryKey: ["libraries"], queryFn: () => ask(api.GET("/api/v1/libraries")) });
}

export function useSavings(slug: string) {
  return useQuery({
    queryKey: ["savings", slug],
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/savings", { params: { path: { slug } } })),
  });
}

export function useFolders(slug: string) {
  return useQuery({
    queryKey: ["folders", slug],
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/folders", { params: { path: { slug } } })),
  });
}

export interface PictureFilters {
  state?: string;
  folder?: string;
  search?: string;
  format?: string;
  sort?: string;
}

export const PAGE = 60;

export async function fetchPictures(slug: string, filters: PictureFilters, offset: number) {
  const query = Object.fromEntries(
    Object.entries({ ...filters, offset, limit: PAGE }).filter(([, value]) => value !== undefined && value !== ""),
  );
  return ask(api.GET("/api/v1/libraries/{slug}/pictures", { params: { path: { slug }, query } }));
}

export function usePicture(id: number) {
  return useQuery({
    queryKey: ["picture", id],
    queryFn: () => ask(api.GET("/api/v1/pictures/{picture_id}", { params: { path: { picture_id: id } } })),
  });
}

export function useRuns(slug: string) {
  return useQuery({
    queryKey: ["runs", slug],
    queryFn: () => ask(api.GET("/api/v1/runs", { params: { query: { library: slug } } })),
  });
}

export function useRun(id: number) {
  return useQuery({
    queryKey: ["run", id],
    queryFn: () => ask(api.GET("/api/v1/runs/{run_id}", { params: { path: { run_id: id } } })),
    refetchInterval: (query) => (query.state.data?.state === "running" ? 5000 : false),
  });
}

export function useItems(id: number, state: "failed" | "landed") {
  const states = state === "failed" ? (["failed"] as const) : (["done", "passed", "failed"] as const);
  return useQuery({
    queryKey: ["items", id, state],
    queryFn: () =>
      ask(
        api.GET("/api/v1/runs/{run_id}/items", {
          params: { path: { run_id: id }, query: { state: [...states], limit: state === "failed" ? 500 : 40 } },
        }),
      ),
  });
}

export function useStartRun() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: RunRequest) => ask(api.POST("/api/v1/runs", { body })),
    onSuccess: (run) => {
      cache.setQueryData(["run", run.id], run);
      void cache.invalidateQueries({ queryKey: ["runs"] });
    },
  });
}

export function useChangeRun(id: number) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (action: "pause" | "resume" | "stop" | "retry") =>
      action === "retry"
        ? ask(api.POST("/api/v1/runs/{run_id}/retry", { params: { path: { run_id: id } } }))
        : ask(api.POST("/api/v1/runs/{run_id}/{action}", { params: { path: { run_id: id, action } } })),
    onSuccess: (run) => {
      cache.setQueryData(["run", id], run);
      void cache.invalidateQueries({ queryKey: ["runs"] });
      void cache.invalidateQueries({ queryKey: ["items", id] });
    },
  });
}

export function useStartSurvey(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: () => ask(api.POST("/api/v1/libraries/{slug}/surveys", { params: { path: { slug } } })),
    onSuccess: (survey) => {
      cache.setQueryData<Library[]>(["libraries"], (all) =>
        all?.map((one) => (one.slug === slug ? { ...one, last_survey: survey } : one)),
      );
    },
  });
}

export function useRecipe(slug: string) {
  return useQuery({
    queryKey: ["recipe", slug],
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/recipe", { params: { path: { slug } } })),
  });
}

/** What settings would do; asked again as they change. */
export function useEffectOf(slug: string, settings: RecipeSettings | undefined) {
  return useQuery({
    queryKey: ["effect", slug, settings],
    enabled: settings !== undefined,
    placeholderData: (former: Effect | undefined) => former,
    queryFn: () =>
      ask(api.POST("/api/v1/libraries/{slug}/recipe/effect", { params: { path: { slug } }, body: settings! })),
  });
}

export function useSaveRecipe(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: RecipeSettings) =>
      ask(api.PUT("/api/v1/libraries/{slug}/recipe", { params: { path: { slug } }, body })),
    onSuccess: (recipe) => {
      cache.setQueryData(["recipe", slug], recipe);
      for (const noun of ["libraries", "effect", "plan"]) void cache.invalidateQueries({ queryKey: [noun] });
    },
  });
}

export function useChangeUpkeep(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (upkeep: Upkeep) =>
      ask(api.PATCH("/api/v1/libraries/{slug}", { params: { path: { slug } }, body: { upkeep } })),
    onSuccess: () => void cache.invalidateQueries({ queryKey: ["libraries"] }),
  });
}

export function useHookSecret(slug: string) {
  return useMutation({
    mutationFn: () => ask(api.POST("/api/v1/libraries/{slug}/hook-secret", { params: { path: { slug } } })),
  });
}

export function useBackups(slug: string) {
  return useQuery({
    queryKey: ["backups", slug],
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/backups", { params: { path: { slug } } })),
  });
}

export function usePrune(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: { older_than_days: number | null; needed_too: boolean; orphans_too: boolean; confirm: string }) =>
      ask(api.POST("/api/v1/libraries/{slug}/backups/prune", { params: { path: { slug } }, body })),
    onSuccess: () => {
      for (const noun of ["backups", "orphans", "libraries"]) void cache.invalidateQueries({ queryKey: [noun] });
    },
  });
}

export function useOrphans(slug: string, offset: number) {
  return useQuery({
    queryKey: ["orphans", slug, offset],
    queryFn: () =>
      ask(api.GET("/api/v1/libraries/{slug}/orphans", { params: { path: { slug }, query: { offset, limit: 20 } } })),
  });
}

export function useRescue(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ id, path }: { id: number; path: string | null }) =>
      ask(api.POST("/api/v1/libraries/{slug}/orphans/{backup_id}/restore", { params: { path: { slug, backup_id: id } }, body: { path } })),
    onSuccess: () => {
      for (const noun of ["orphans", "backups", "pictures"]) void cache.invalidateQueries({ queryKey: [noun] });
    },
  });
}

export function useRecognise(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (confirm: string) =>
      ask(api.POST("/api/v1/libraries/{slug}/recognise", { params: { path: { slug } }, body: { confirm } })),
    onSuccess: () => {
      for (const noun of ["machine", "libraries", "orphans", "backups"]) void cache.invalidateQueries({ queryKey: [noun] });
    },
  });
}

const underWay = (jobs: { state: string }[] | undefined) =>
  jobs?.some((job) => job.state === "waiting" || job.state === "running") ? 1000 : false;

export function useChecks(slug: string) {
  return useQuery({
    queryKey: ["checks", slug],
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/checks", { params: { path: { slug } } })),
    refetchInterval: (query) => underWay(query.state.data),
  });
}

export function useStartCheck(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (mend: boolean) =>
      ask(api.POST("/api/v1/libraries/{slug}/checks", { params: { path: { slug } }, body: { mend } })),
    onSuccess: () => void cache.invalidateQueries({ queryKey: ["checks", slug] }),
  });
}

export function useStopCheck(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (check_id: number) => ask(api.POST("/api/v1/checks/{check_id}/stop", { params: { path: { check_id } } })),
    onSuccess: () => void cache.invalidateQueries({ queryKey: ["checks", slug] }),
  });
}

export function useStopForecast(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (forecast_id: number) =>
      ask(api.POST("/api/v1/forecasts/{forecast_id}/stop", { params: { path: { forecast_id } } })),
    onSuccess: () => void cache.invalidateQueries({ queryKey: ["forecasts", slug] }),
  });
}

export function useForecasts(slug: string) {
  return useQuery({
    queryKey: ["forecasts", slug],
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/forecasts", { params: { path: { slug } } })),
    refetchInterval: (query) => underWay(query.state.data),
  });
}

export function useStartForecast(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (seconds: number) =>
      ask(api.POST("/api/v1/libraries/{slug}/forecasts", { params: { path: { slug } }, body: { seconds } })),
    onSuccess: () => void cache.invalidateQueries({ queryKey: ["forecasts", slug] }),
  });
}

export function useMachine() {
  return useQuery({ queryKey: ["machine"], queryFn: () => ask(api.GET("/api/v1/machine")) });
}

export function usePlan(id: number) {
  return useQuery({
    queryKey: ["plan", id],
    queryFn: () => ask(api.GET("/api/v1/pictures/{picture_id}/plan", { params: { path: { picture_id: id } } })),
  });
}

export function useSetOwn(id: number) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (own: "exact" | "gallery" | "everyday" | "lean" | "leave" | null) =>
      ask(api.PUT("/api/v1/pictures/{picture_id}/own", { params: { path: { picture_id: id } }, body: { own } })),
    onSuccess: (picture) => {
      cache.setQueryData(["picture", id], picture);
      void cache.invalidateQueries({ queryKey: ["plan", id] });
    },
  });
}
