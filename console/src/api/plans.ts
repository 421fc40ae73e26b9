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
export type WebhookSettings = Required<Schemas["WebhookSettings"]>;
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

export function useWebhooks(slug: string) {
  return useQuery({
    queryKey: keys.webhooks(slug),
    queryFn: () => ask(api.GET("/api/v1/libraries/{slug}/webhooks", of(slug))),
    // While a message is under way, how it fares is looked at.
    refetchInterval: (query) =>
      query.state.data?.some((one) => one.messages.some((message) => message.next_at !== null))
        ? 2_000
        : false,
  });
}

export function useAddWebhook(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: WebhookSettings) =>
      ask(api.POST("/api/v1/libraries/{slug}/webhooks", { ...of(slug), body })),
    onSuccess: () => stale(cache, ["webhooks"]),
  });
}

/** What is done to one webhook; its answer takes the place of what is known of it. */
export function useWebhook(slug: string, webhook_id: number) {
  const cache = useQueryClient();
  const one = { params: { path: { slug, webhook_id } } };
  const takes = {
    onSuccess: (webhook: Webhook) =>
      cache.setQueryData<Webhook[]>(keys.webhooks(slug), (all) =>
        all?.map((other) => (other.id === webhook.id ? webhook : other)),
      ),
  };
  return {
    set: useMutation({
      mutationFn: (body: WebhookSettings) =>
        ask(api.PUT("/api/v1/libraries/{slug}/webhooks/{webhook_id}", { ...one, body })),
      ...takes,
    }),
    remove: useMutation({
      mutationFn: () => ask(api.DELETE("/api/v1/libraries/{slug}/webhooks/{webhook_id}", one)),
      onSuccess: () => stale(cache, ["webhooks"]),
    }),
    makeSecret: useMutation({
      mutationFn: () => ask(api.POST("/api/v1/libraries/{slug}/webhooks/{webhook_id}/secret", one)),
    }),
    sendTrial: useMutation({
      mutationFn: () => ask(api.POST("/api/v1/libraries/{slug}/webhooks/{webhook_id}/trial", one)),
      ...takes,
    }),
    redeliver: useMutation({
      mutationFn: (message: string) =>
        ask(
          api.POST("/api/v1/libraries/{slug}/webhooks/{webhook_id}/messages/{message}/redelivery", {
            params: { path: { slug, webhook_id, message } },
          }),
        ),
      ...takes,
    }),
  };
}
