/** Every question the console asks, by noun, and what a change makes stale. */

import {
  useInfiniteQuery,
  useMutation,
  useQuery,
  useQueryClient,
  type QueryClient,
} from "@tanstack/react-query";
import {
  api,
  ask,
  noteTag,
  rowsOf,
  type Effect,
  type Facets,
  type Format,
  type Job,
  type JobKind,
  type Library,
  type RecipeSettings,
  type RunRequest,
  type Trial,
  type Automation,
} from "./client";
import { keys, type Noun } from "./keys";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];

/** All answers of some kinds are asked for anew where a page shows them. */
export function stale(cache: QueryClient, nouns: Noun[]): void {
  for (const noun of nouns) void cache.invalidateQueries({ queryKey: [noun] });
}

const NO_FORMATS: Format[] = [];

/** The formats the service knows, with their names and what is done with each. */
export function useFormats() {
  const found = useQuery({
    queryKey: keys.formats,
    queryFn: () => ask(api.GET("/api/v1/formats")),
    staleTime: Infinity,
  });
  const formats = found.data ?? NO_FORMATS;
  return {
    formats,
    shown: formats.filter((format) => format.shown),
    treated: formats.filter((format) => format.treated),
    /** Whether files of a format can be cut and touched up. */
    shaped: (name: string | null | undefined) =>
      formats.some((format) => format.name === name && format.shaped),
    label: (name: string) =>
      formats.find((format) => format.name === name)?.label ??
      (name === "other" ? "Other files" : name.toUpperCase()),
  };
}

export function usePerson() {
  return useQuery({
    queryKey: keys.person,
    queryFn: () => ask(api.GET("/api/v1/session")),
    retry: false,
    staleTime: 300_000, // roles may change meanwhile
  });
}

export function useLibraries() {
  return useQuery({
    queryKey: keys.libraries,
    queryFn: async () => {
      const libraries = await ask(api.GET("/api/v1/libraries"));
      for (const { slug, tag } of libraries) noteTag(`/api/v1/libraries/${slug}`, tag);
      return libraries;
    },
  });
}

export function useSavings(slug: string) {
  return useQuery({
    queryKey: keys.savings(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/savings", { params: { path: { slug } } })),
  });
}

export function useFolders(slug: string) {
  return useQuery({
    queryKey: keys.folders(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/folders", { params: { path: { slug } } })),
  });
}

const PAGE = 60;

/** A few pictures, without what stands behind them in the list; none while nothing is asked for. */
export function useFewPictures(slug: string, query: object | undefined) {
  return useQuery({
    queryKey: keys.pictures(slug, { few: query }),
    enabled: query !== undefined,
    queryFn: () => fetchPictures(slug, query!),
  });
}

/** The largest still pictures of a library, to show something on. */
export function useSomePictures(slug: string) {
  const { data, isPending } = useFewPictures(slug, SOME);
  return { data: data?.rows.filter((picture) => picture.width > 0), isPending };
}
const SOME = { sort: "size", format: ["jpeg"], limit: 12 };

async function fetchPictures(slug: string, query: object) {
  return ask(api.GET("/api/v1/libraries/{slug}/pictures", { params: { path: { slug }, query } }));
}

/** A list of pictures that goes on as far as it is read. */
export function usePictures(slug: string, filter: object) {
  return useInfiniteQuery({
    queryKey: keys.pictures(slug, filter),
    queryFn: ({ pageParam }) =>
      fetchPictures(slug, {
        ...filter,
        limit: PAGE,
        previews: true,
        ...(pageParam && { after: pageParam }),
      }),
    initialPageParam: "",
    getNextPageParam: (last) => last.cursor ?? undefined,
  });
}

/** What a filter finds, and what each further choice would find. */
export function useFacets(slug: string, filter: object) {
  return useQuery({
    queryKey: keys.pictures(slug, { facets: filter }),
    placeholderData: (former: Facets | undefined) => former,
    queryFn: () =>
      ask(api.GET("/api/v1/libraries/{slug}/facets", { params: { path: { slug }, query: filter } })),
  });
}

/** What settings, or a level, make of a part of a picture; asked again as they change. */
export function useTrial(picture: number, wanted: Partial<Schemas["TrialRequest"]>) {
  return useQuery<Trial>({
    queryKey: keys.trial(picture, wanted),
    retry: false,
    staleTime: 600_000,
    placeholderData: (former) => former,
    queryFn: ({ signal }) =>
      ask(
        api.POST("/api/v1/pictures/{picture_id}/trial", {
          params: { path: { picture_id: picture } },
          body: wanted,
          signal,
        }),
      ),
  });
}

export function useSetOverrides(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["OverridesRequest"]) =>
      ask(api.PUT("/api/v1/libraries/{slug}/overrides", { params: { path: { slug } }, body })),
    onSuccess: () => stale(cache, ["pictures", "picture", "plan", "effect"]),
  });
}

export function usePicture(id: number) {
  return useQuery({
    queryKey: keys.picture(id),
    queryFn: () => ask(api.GET("/api/v1/pictures/{picture_id}", { params: { path: { picture_id: id } } })),
  });
}

export function useRuns(slug: string) {
  return useQuery({
    queryKey: keys.runs(slug),
    queryFn: () => rowsOf(api.GET("/api/v1/runs", { params: { query: { library: slug } } })),
  });
}

export function useRun(id: number) {
  return useQuery({
    queryKey: keys.run(id),
    queryFn: () => ask(api.GET("/api/v1/runs/{run_id}", { params: { path: { run_id: id } } })),
    refetchInterval: (query) => (query.state.data?.state === "running" ? 5000 : false),
  });
}

export function useItems(id: number, state: "failed" | "landed") {
  const states = state === "failed" ? (["failed"] as const) : (["done", "passed", "failed"] as const);
  return useQuery({
    queryKey: keys.items(id, state),
    queryFn: () =>
      ask(
        api.GET("/api/v1/runs/{run_id}/items", {
          params: {
            path: { run_id: id },
            query: { state: [...states], limit: state === "failed" ? 500 : 40 },
          },
        }),
      ),
  });
}

export function useStartRun() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: RunRequest) => ask(api.POST("/api/v1/runs", { body })),
    onSuccess: (run) => {
      cache.setQueryData(keys.run(run.id), run);
      stale(cache, ["runs"]);
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
      cache.setQueryData(keys.run(id), run);
      stale(cache, ["runs"]);
      stale(cache, ["items"]);
    },
  });
}

/** Tries some of a run's failed files again. */
export function useRetryItems(id: number) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (item: number[]) =>
      ask(api.POST("/api/v1/runs/{run_id}/retry", { params: { path: { run_id: id }, query: { item } } })),
    onSuccess: (run) => {
      cache.setQueryData(keys.run(id), run);
      stale(cache, ["runs", "items"]);
    },
  });
}

export function useRecipe(slug: string) {
  return useQuery({
    queryKey: keys.recipe(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/recipe", { params: { path: { slug } } })),
  });
}

/** What settings would do; asked again as they change. */
export function useEffectOf(slug: string, settings: RecipeSettings | undefined) {
  return useQuery({
    queryKey: keys.effect(slug, settings),
    enabled: settings !== undefined,
    placeholderData: (former: Effect | undefined) => former,
    queryFn: () =>
      ask(
        api.POST("/api/v1/libraries/{slug}/recipe/effect", { params: { path: { slug } }, body: settings! }),
      ),
  });
}

export function useSaveRecipe(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ settings, basedOn }: { settings: RecipeSettings; basedOn: number }) =>
      ask(
        api.PUT("/api/v1/libraries/{slug}/recipe", {
          params: { path: { slug }, header: { "if-match": `"${basedOn}"` } },
          body: settings,
        }),
      ),
    onSuccess: (recipe) => {
      cache.setQueryData(keys.recipe(slug), recipe);
      stale(cache, ["libraries", "effect", "plan"]);
    },
    // Somebody else may have saved one meanwhile.
    onError: () => stale(cache, ["recipe"]),
  });
}

export function useChangeAutomation(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (automation: Automation) =>
      ask(api.PATCH("/api/v1/libraries/{slug}", { params: { path: { slug } }, body: { automation } })),
    onSuccess: () => stale(cache, ["libraries"]),
  });
}

export function useHookSecret(slug: string) {
  return useMutation({
    mutationFn: () => ask(api.POST("/api/v1/libraries/{slug}/hook-secret", { params: { path: { slug } } })),
  });
}

export function useBackups(slug: string) {
  return useQuery({
    queryKey: keys.backups(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/backups", { params: { path: { slug } } })),
  });
}

export function useOrphans(slug: string) {
  return useInfiniteQuery({
    queryKey: keys.orphans(slug),
    queryFn: ({ pageParam }) =>
      ask(
        api.GET("/api/v1/libraries/{slug}/orphans", {
          params: { path: { slug }, query: { limit: 20, ...(pageParam && { after: pageParam }) } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.cursor ?? undefined,
  });
}

export function useRescue(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ id, path }: { id: number; path: string | null }) =>
      ask(
        api.POST("/api/v1/libraries/{slug}/orphans/{backup_id}/restore", {
          params: { path: { slug, backup_id: id } },
          body: { path },
        }),
      ),
    onSuccess: () => {
      stale(cache, ["orphans", "backups", "pictures"]);
    },
  });
}

export function useReattach(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (confirm: string) =>
      ask(api.POST("/api/v1/libraries/{slug}/reattach", { params: { path: { slug } }, body: { confirm } })),
    onSuccess: () => {
      stale(cache, ["machine", "libraries", "orphans", "backups"]);
    },
  });
}

/** Jobs of a kind, the latest first; the event stream keeps them as they are. */
export function useJobs(slug: string, kind: JobKind) {
  return useQuery({
    queryKey: keys.jobs(slug, kind),
    queryFn: () =>
      rowsOf(api.GET("/api/v1/libraries/{slug}/jobs", { params: { path: { slug }, query: { kind } } })),
  });
}

export const underWay = (job: Job | null | undefined) => job?.state === "waiting" || job?.state === "running";

const path = (slug: string) => ({ params: { path: { slug } } });
const STARTS = {
  survey: (slug: string) => api.POST("/api/v1/libraries/{slug}/surveys", path(slug)),
  check: (slug: string, body: Schemas["CheckRequest"]) =>
    api.POST("/api/v1/libraries/{slug}/checks", { ...path(slug), body }),
  forecast: (slug: string, body: Schemas["ForecastRequest"]) =>
    api.POST("/api/v1/libraries/{slug}/forecasts", { ...path(slug), body }),
  resemblance: (slug: string) => api.POST("/api/v1/libraries/{slug}/resemblances", path(slug)),
  words: (slug: string) => api.POST("/api/v1/libraries/{slug}/word-readings", path(slug)),
  "near-duplicates": (slug: string) =>
    api.POST("/api/v1/libraries/{slug}/near-duplicate-searches", path(slug)),
  pruning: (slug: string, body: Schemas["PruneRequest"]) =>
    api.POST("/api/v1/libraries/{slug}/prunings", { ...path(slug), body }),
};

/** Starts a job of a kind; what it needs to know is given when it is started. */
export function useStartJob<K extends keyof typeof STARTS>(slug: string, kind: K) {
  const cache = useQueryClient();
  type Body = Parameters<(typeof STARTS)[K]>[1];
  return useMutation({
    mutationFn: (body: Body) =>
      ask((STARTS[kind] as (slug: string, body: Body) => ReturnType<(typeof STARTS)["survey"]>)(slug, body)),
    onSuccess: (job) => takeJob(cache, job),
  });
}

/** Folders whose files seem to be renditions, for what they show. */
export function useProposals(slug: string) {
  return useQuery({
    queryKey: keys.proposals(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/proposals", path(slug))),
  });
}

export function useAnswerProposal(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["ProposalAnswer"]) =>
      ask(api.POST("/api/v1/libraries/{slug}/proposals", { ...path(slug), body })),
    onSuccess: () => stale(cache, ["proposals", "libraries", "savings", "pictures"]),
  });
}

export function useStopJob() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (job_id: number) =>
      ask(api.POST("/api/v1/jobs/{job_id}/stop", { params: { path: { job_id } } })),
    onSuccess: (job) => takeJob(cache, job),
  });
}

/** What a job changes when it ends. */
const MAKES_STALE: Record<JobKind, Noun[]> = {
  survey: ["libraries", "savings", "pictures", "folders"],
  check: ["pictures", "picture", "backups"],
  forecast: [],
  proof: ["libraries"],
  pruning: ["backups", "orphans", "libraries"],
  weighing: ["sitePages", "sitePage", "weighings", "pageHistory"],
  report: ["reports", "webhooks"],
  resemblance: ["proposals"],
  words: ["descriptions", "describedSummary", "describedPicture"],
  "near-duplicates": ["nearDuplicates"],
};

/** Puts a job as it is now where pages look for it. */
export function takeJob(cache: QueryClient, job: Job): void {
  cache.setQueryData<Job[]>(
    keys.jobs(job.library, job.kind),
    (all) => all && [job, ...all.filter((other) => other.id !== job.id)].sort((a, b) => b.id - a.id),
  );
  if (job.kind === "survey") {
    cache.setQueryData<Library[]>(keys.libraries, (all) =>
      all?.map((library) => (library.slug === job.library ? { ...library, last_survey: job } : library)),
    );
  }
  if (!underWay(job)) stale(cache, MAKES_STALE[job.kind]);
}

export function useMachine(enabled = true) {
  return useQuery({ queryKey: keys.machine, queryFn: () => ask(api.GET("/api/v1/machine")), enabled });
}

export function usePlan(id: number) {
  return useQuery({
    queryKey: keys.plan(id),
    queryFn: () =>
      ask(api.GET("/api/v1/pictures/{picture_id}/plan", { params: { path: { picture_id: id } } })),
  });
}

export function useSetOverride(id: number) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (override: "exact" | "gallery" | "everyday" | "lean" | "leave" | null) =>
      ask(
        api.PUT("/api/v1/pictures/{picture_id}/override", {
          params: { path: { picture_id: id } },
          body: { override },
        }),
      ),
    onSuccess: (picture) => {
      cache.setQueryData(keys.picture(id), picture);
      void cache.invalidateQueries({ queryKey: keys.plan(id) });
    },
  });
}
