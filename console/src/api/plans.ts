/** What the console asks about a library's allowance, its report for the client, and whom it tells. */

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "./client";
import { keys } from "./keys";
import { stale, takeJob } from "./queries";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Allowance = Schemas["Allowance"];
export type AllowanceSettings = Schemas["AllowanceSettings"];
export type Report = Schemas["SavingsReport"];
export type ReportPicture = Schemas["ReportPicture"];
export type ReportSettings = Schemas["ReportSettings"];
export type Webhook = Schemas["Webhook"];
export type EventType = Schemas["EventType"];

const of = (slug: string) => ({ params: { path: { slug } } });

export function useAllowance(slug: string) {
  return useQuery({
    queryKey: keys.allowance(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/allowance", of(slug))),
    refetchInterval: 30_000,
  });
}

export function useSetAllowance(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: AllowanceSettings) =>
      ask(api.PUT("/api/v1/libraries/{slug}/allowance", { ...of(slug), body })),
    onSuccess: (allowance) => cache.setQueryData(keys.allowance(slug), allowance),
  });
}

export function useReport(slug: string, begins: string, ends: string) {
  return useQuery({
    queryKey: keys.report(slug, begins, ends),
    queryFn: () =>
      ask(
        api.GET("/api/v1/libraries/{slug}/report", { params: { path: { slug }, query: { begins, ends } } }),
      ),
    placeholderData: (former) => former, // other months take the place of those shown, without a gap
  });
}

/** Where the same report is fetched as a file. */
export const reportUrl = (slug: string, form: "pdf" | "csv", begins: string, ends: string) =>
  `/api/v1/libraries/${slug}/report/${form}?begins=${begins}&ends=${ends}`;
export const keptUrl = (slug: string, month: string, form: "pdf" | "csv") =>
  `/api/v1/libraries/${slug}/reports/${month}/${form}`;

export function useReportSettings(slug: string) {
  return useQuery({
    queryKey: keys.reportSettings(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/report-settings", of(slug))),
  });
}

export function useSetReport(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: ReportSettings) =>
      ask(api.PUT("/api/v1/libraries/{slug}/report-settings", { ...of(slug), body })),
    onSuccess: (settings) => {
      cache.setQueryData(keys.reportSettings(slug), settings);
      stale(cache, ["report"]);
    },
  });
}

export function useKeptReports(slug: string) {
  return useQuery({
    queryKey: keys.reports(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/reports", of(slug))),
  });
}

export function useKeepReport(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (month: string) =>
      ask(api.POST("/api/v1/libraries/{slug}/reports", { ...of(slug), body: { month } })),
    onSuccess: (job) => takeJob(cache, job),
  });
}

export function useWebhook(slug: string) {
  return useQuery({
    queryKey: keys.webhook(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/webhook", of(slug))),
    // While a message is under way, how it fares is looked at.
    refetchInterval: (query) =>
      query.state.data?.messages.some((one) => one.next_at !== null) ? 2_000 : false,
  });
}

export function useSetWebhook(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: { address: string | null; events: EventType[] }) =>
      ask(api.PUT("/api/v1/libraries/{slug}/webhook", { ...of(slug), body })),
    onSuccess: (webhook) => cache.setQueryData(keys.webhook(slug), webhook),
  });
}

export function useWebhookSecret(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: () => ask(api.POST("/api/v1/libraries/{slug}/webhook/secret", of(slug))),
    onSuccess: () => stale(cache, ["webhook"]),
  });
}

export function useRedeliver(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (message: string) =>
      ask(
        api.POST("/api/v1/libraries/{slug}/webhook/messages/{message}/redelivery", {
          params: { path: { slug, message } },
        }),
      ),
    onSuccess: (webhook) => cache.setQueryData(keys.webhook(slug), webhook),
  });
}

export function useTryWebhook(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: () => ask(api.POST("/api/v1/libraries/{slug}/webhook/trial", of(slug))),
    onSuccess: (webhook) => cache.setQueryData(keys.webhook(slug), webhook),
  });
}
