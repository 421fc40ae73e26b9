/** What the console asks about people, keys and the audit log: of one library, or of the whole service. */

import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, rowsOf } from "./client";
import { keys } from "./keys";
import { stale, usePerson } from "./queries";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Ability = Schemas["Ability"];
export type Role = Schemas["Role"];
export type PersonRow = Schemas["PersonRow"];
export type Member = Schemas["Member"];
export type Invitation = Schemas["Invitation"];
export type NewInvitation = Schemas["NewInvitation"];
export type Key = Schemas["Key"];
export type NewKey = Schemas["NewKey"];
export type SignedIn = Schemas["SignedIn"];
export type Offer = Schemas["LinkOffer"];
export type AuditEntry = Schemas["AuditEntry"];
export type Outcome = Schemas["ActOutcome"];

/** Whether who is signed in may do something in a library; while that is not known, no. */
export function useMay(slug: string): (ability: Ability) => boolean {
  const person = usePerson();
  const held = person.data?.access.find((one) => one.library === slug)?.abilities ?? [];
  // Who administers the service may everything, also in a library that was connected a moment ago.
  return (ability) => person.data?.service === true || held.includes(ability);
}

const of = (slug: string) => ({ params: { path: { slug } } });
/** As many as one page holds: of people and keys there are not more. */
const MOST = { limit: 500 };
const allOf = (slug: string) => ({ params: { path: { slug }, query: MOST } });

export function useMembers(slug: string) {
  return useQuery({
    queryKey: keys.members(slug),
    queryFn: () => rowsOf(api.GET("/api/v1/libraries/{slug}/people", allOf(slug))),
  });
}

export function usePeople() {
  return useQuery({
    queryKey: keys.people,
    queryFn: () => rowsOf(api.GET("/api/v1/people", { params: { query: MOST } })),
  });
}

export function useInvitations(slug?: string) {
  return useQuery({
    queryKey: keys.invitations(slug ?? ""),
    queryFn: () =>
      slug === undefined
        ? rowsOf(api.GET("/api/v1/invitations", { params: { query: MOST } }))
        : rowsOf(api.GET("/api/v1/libraries/{slug}/invitations", allOf(slug))),
  });
}

export function useInvite(slug?: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (asked: {
      email: string;
      name: string;
      role: Role;
      service: boolean;
      libraries: string[];
    }): Promise<NewInvitation> =>
      slug === undefined
        ? ask(
            api.POST("/api/v1/invitations", {
              body: {
                email: asked.email,
                name: asked.name,
                service: asked.service,
                days: 7,
                grants: asked.service
                  ? []
                  : asked.libraries.map((library) => ({ library, role: asked.role })),
              },
            }),
          )
        : ask(
            api.POST("/api/v1/libraries/{slug}/invitations", {
              ...of(slug),
              body: { email: asked.email, name: asked.name, role: asked.role, days: 7 },
            }),
          ),
    onSuccess: () => stale(cache, ["invitations"]),
  });
}

export function useTakeBack(slug?: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (number: number) =>
      slug === undefined
        ? ask(
            api.DELETE("/api/v1/invitations/{invitation_id}", {
              params: { path: { invitation_id: number } },
            }),
          )
        : ask(
            api.DELETE("/api/v1/libraries/{slug}/invitations/{invitation_id}", {
              params: { path: { slug, invitation_id: number } },
            }),
          ),
    onSuccess: () => stale(cache, ["invitations"]),
  });
}

export function useChangeMember(slug: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ number, role }: { number: number; role: Role | null }): Promise<unknown> => {
      const params = { path: { slug, person_id: number } };
      return role === null
        ? ask(api.DELETE("/api/v1/libraries/{slug}/people/{person_id}", { params }))
        : ask(api.PUT("/api/v1/libraries/{slug}/people/{person_id}", { params, body: { role } }));
    },
    onSuccess: () => stale(cache, ["members"]),
  });
}

export function useChangePerson() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ number, change }: { number: number; change: Schemas["PersonChange"] }) =>
      ask(api.PATCH("/api/v1/people/{person_id}", { params: { path: { person_id: number } }, body: change })),
    onSuccess: () => stale(cache, ["people"]),
  });
}

export function useRemovePerson() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (number: number) =>
      ask(api.DELETE("/api/v1/people/{person_id}", { params: { path: { person_id: number } } })),
    onSuccess: () => stale(cache, ["people"]),
  });
}

export function useNewPassword() {
  return useMutation({
    mutationFn: (number: number) =>
      ask(api.POST("/api/v1/people/{person_id}/new-password", { params: { path: { person_id: number } } })),
  });
}

export function useKeys(slug?: string) {
  return useQuery({
    queryKey: keys.keys(slug ?? ""),
    queryFn: () =>
      slug === undefined
        ? rowsOf(api.GET("/api/v1/keys", { params: { query: MOST } }))
        : rowsOf(api.GET("/api/v1/libraries/{slug}/keys", allOf(slug))),
  });
}

export interface KeyAsked {
  name: string;
  abilities: Ability[];
  days: number | null;
  libraries: string[] | null;
  service: boolean;
}

export function useMakeKey(slug?: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ name, abilities, days, libraries, service }: KeyAsked): Promise<NewKey> =>
      slug === undefined
        ? ask(api.POST("/api/v1/keys", { body: { name, abilities, days, libraries, service } }))
        : ask(api.POST("/api/v1/libraries/{slug}/keys", { ...of(slug), body: { name, abilities, days } })),
    onSuccess: () => stale(cache, ["keys"]),
  });
}

export function useRotateKey(slug?: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: ({ number, hours }: { number: number; hours: number }): Promise<NewKey> => {
      const body = { overlap_hours: hours };
      return slug === undefined
        ? ask(api.POST("/api/v1/keys/{key_id}/rotation", { params: { path: { key_id: number } }, body }))
        : ask(
            api.POST("/api/v1/libraries/{slug}/keys/{key_id}/rotation", {
              params: { path: { slug, key_id: number } },
              body,
            }),
          );
    },
    onSuccess: () => stale(cache, ["keys"]),
  });
}

export function useRevokeKey(slug?: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (number: number) =>
      slug === undefined
        ? ask(api.DELETE("/api/v1/keys/{key_id}", { params: { path: { key_id: number } } }))
        : ask(
            api.DELETE("/api/v1/libraries/{slug}/keys/{key_id}", {
              params: { path: { slug, key_id: number } },
            }),
          ),
    onSuccess: () => stale(cache, ["keys"]),
  });
}

export interface AuditFilter {
  search: string;
  outcome: Outcome | "";
}

export function useAudit(filter: AuditFilter, slug?: string) {
  const query = {
    search: filter.search || undefined,
    outcome: filter.outcome || undefined,
    limit: 60,
  };
  return useInfiniteQuery({
    queryKey: keys.audit(slug ?? "", filter),
    queryFn: ({ pageParam }) => {
      const page = { ...query, ...(pageParam && { after: pageParam }) };
      return slug === undefined
        ? ask(api.GET("/api/v1/audit", { params: { query: page } }))
        : ask(api.GET("/api/v1/libraries/{slug}/audit", { params: { path: { slug }, query: page } }));
    },
    initialPageParam: "",
    getNextPageParam: (last) => last.cursor ?? undefined,
    placeholderData: (former) => former,
  });
}

export function useSettings() {
  return useQuery({ queryKey: keys.settings, queryFn: () => ask(api.GET("/api/v1/settings")) });
}

export function useMySessions() {
  return useQuery({ queryKey: keys.sessions, queryFn: () => ask(api.GET("/api/v1/me/sessions")) });
}

export function useEndSession() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (number: number) =>
      ask(api.DELETE("/api/v1/me/sessions/{session_id}", { params: { path: { session_id: number } } })),
    onSuccess: () => stale(cache, ["sessions"]),
  });
}

export function useSignOutEverywhere() {
  return useMutation({ mutationFn: () => ask(api.DELETE("/api/v1/me/sessions")) });
}

export function useChangePassword() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["PasswordChange"]) => ask(api.PUT("/api/v1/me/password", { body })),
    onSuccess: () => stale(cache, ["sessions"]),
  });
}

export function useSecondFactor() {
  const cache = useQueryClient();
  const fresh = () => stale(cache, ["person"]);
  return {
    offer: useMutation({
      mutationFn: (password: string) => ask(api.POST("/api/v1/me/second-factor", { body: { password } })),
    }),
    begin: useMutation({
      mutationFn: (code: string) => ask(api.PUT("/api/v1/me/second-factor", { body: { code } })),
      onSuccess: fresh,
    }),
    end: useMutation({
      mutationFn: (password: string) => ask(api.POST("/api/v1/me/second-factor/end", { body: { password } })),
      onSuccess: fresh,
    }),
    codes: useMutation({
      mutationFn: (password: string) => ask(api.POST("/api/v1/me/recovery-codes", { body: { password } })),
    }),
  };
}

export function useOffer(token: string) {
  return useQuery({
    queryKey: ["offer", token],
    queryFn: () => ask(api.POST("/api/v1/joining/offer", { body: { token } })),
    retry: false,
  });
}

export function useJoin() {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["Joining"]) => ask(api.POST("/api/v1/joining", { body })),
    onSuccess: (person) => cache.setQueryData(keys.person, person),
  });
}
