/** Who may do what: the people of a library, or of the whole service, and the links that wait to be opened. */

import { useState } from "react";
import type { Library } from "../api/client";
import {
  useChangeMember,
  useChangePerson,
  useInvitations,
  useInvite,
  useMembers,
  useNewPassword,
  usePeople,
  useRemovePerson,
  useTakeBack,
  type Invitation,
  type Member,
  type PersonRow,
  type Role,
} from "../api/people";
import { useLibraries } from "../api/queries";
import { many, when } from "../look/words";
import { Once } from "../parts/Once";
import { Button, Card, Confirm, Empty, ErrorNote, Field, INPUT, Shape, Sheet, Tag, Tick } from "../parts/ui";
import { Select } from "../parts/Select";

export const ROLES: Record<Role, readonly [string, string]> = {
  look: ["Look", "sees the library, its pictures, savings and page weights"],
  edit: ["Edit", "also uploads, puts one picture back, and leaves one alone"],
  treat: ["Treat", "also treats and restores everything, surveys, weighs pages"],
  administer: ["Administer", "also settings, recipe, backups, people and keys"],
};
const NAMES = Object.keys(ROLES) as Role[];

export function LibraryPeoplePage({ library }: { library: Library }) {
  const members = useMembers(library.slug);
  const change = useChangeMember(library.slug);
  const [leaving, setLeaving] = useState<Member | null>(null);
  const [inviting, setInviting] = useState(false);
  return (
    <div className="space-y-5">
      <Card
        title="Who may do what here"
        aside={
          <Button look="main" onClick={() => setInviting(true)}>
            Invite somebody
          </Button>
        }
      >
        {members.isPending && <Shape className="h-32" />}
        {members.isError && <ErrorNote error={members.error} again={() => void members.refetch()} />}
        {members.data?.length === 0 && (
          <Empty
            title="Nobody yet"
            action={<Button onClick={() => setInviting(true)}>Invite somebody</Button>}
          >
            Only those who administer the whole service see this library. Invite an editor, a colleague or the
            client.
          </Empty>
        )}
        {change.isError && <ErrorNote error={change.error} />}
        <ul className="divide-y divide-line">
          {members.data?.map((member) => (
            <li key={member.id} className="flex flex-wrap items-center gap-3 py-3">
              <Who name={member.name} email={member.email} />
              <Select
                label={`What ${member.name} may do`}
                value={member.role}
                options={NAMES.map((role) => ({ value: role, name: ROLES[role][0] }))}
                onChange={(to) =>
                  change.mutate({
                    number: member.id,
                    role: NAMES.find((role) => role === to) ?? "look",
                  })
                }
                disabled={change.isPending}
              />
              <Button look="quiet" onClick={() => setLeaving(member)}>
                Take out
              </Button>
            </li>
          ))}
        </ul>
      </Card>
      <Waiting slug={library.slug} />
      <InviteSheet slug={library.slug} open={inviting} onClose={() => setInviting(false)} />
      <Confirm
        open={leaving !== null}
        onClose={() => setLeaving(null)}
        title={`Take ${leaving?.name ?? ""} out`}
        action="Take out"
        busy={change.isPending}
        error={change.error}
        onConfirm={() =>
          leaving && change.mutate({ number: leaving.id, role: null }, { onSuccess: () => setLeaving(null) })
        }
      >
        <p>
          {leaving?.name} will not see {library.name} any more. The account stays, and what was done stays on
          record.
        </p>
      </Confirm>
    </div>
  );
}

export function ServicePeoplePage() {
  const people = usePeople();
  const [chosen, setChosen] = useState<number | null>(null);
  const [inviting, setInviting] = useState(false);
  const person = people.data?.find((one) => one.id === chosen);
  return (
    <div className="space-y-5">
      <Card
        title="Everybody with an account"
        aside={
          <Button look="main" onClick={() => setInviting(true)}>
            Invite somebody
          </Button>
        }
      >
        {people.isPending && <Shape className="h-32" />}
        {people.isError && <ErrorNote error={people.error} again={() => void people.refetch()} />}
        <ul className="divide-y divide-line">
          {people.data?.map((one) => (
            <li key={one.id} className="flex flex-wrap items-center gap-3 py-3">
              <Who name={one.name} email={one.email} />
              <span className="text-sm text-quiet">{rights(one)}</span>
              {one.suspended && <Tag state="failed">suspended</Tag>}
              {one.second_factor && <Tag state="done">second factor</Tag>}
              <Button look="quiet" onClick={() => setChosen(one.id)}>
                Change
              </Button>
            </li>
          ))}
        </ul>
      </Card>
      <Waiting />
      <InviteSheet open={inviting} onClose={() => setInviting(false)} />
      {person && <PersonSheet key={person.id} person={person} onClose={() => setChosen(null)} />}
    </div>
  );
}

function Who({ name, email }: { name: string; email: string }) {
  return (
    <span className="min-w-48 flex-1">
      <span className="block font-semibold">{name}</span>
      <span className="block break-all text-sm text-quiet">{email}</span>
    </span>
  );
}

function rights(one: { service: boolean; grants: { library: string; role: Role }[] }): string {
  if (one.service) return "administers the service";
  return (
    one.grants.map((grant) => `${ROLES[grant.role][0].toLowerCase()} in ${grant.library}`).join(", ") ||
    "sees no library"
  );
}

function PersonSheet({ person, onClose }: { person: PersonRow; onClose: () => void }) {
  const change = useChangePerson();
  const remove = useRemovePerson();
  const link = useNewPassword();
  const libraries = useLibraries();
  const [sure, setSure] = useState(false);
  const set = (part: Parameters<typeof change.mutate>[0]["change"]) =>
    change.mutate({ number: person.id, change: part });
  const grant = (slug: string, role: string) => {
    const rest = person.grants.filter((one) => one.library !== slug);
    const given = NAMES.find((name) => name === role);
    set({ grants: given ? [...rest, { library: slug, role: given }] : rest });
  };
  return (
    <Sheet open onClose={onClose} title={person.name}>
      <div className="space-y-4">
        <p className="break-all text-sm text-quiet">
          {person.email}, here since {when(person.created_at)}, last signed in {when(person.signed_in_at)}
        </p>
        <Tick
          label="Administers the service"
          hint="Everything, in every library, and people, keys and the audit log."
          on={person.service}
          onChange={(service) => set({ service })}
          disabled={change.isPending}
        />
        <Tick
          label="Suspended"
          hint="Signed out at once, and cannot sign in."
          on={person.suspended}
          onChange={(suspended) => set({ suspended })}
          disabled={change.isPending}
        />
        {!person.service &&
          libraries.data?.map((library) => (
            <label key={library.slug} className="flex items-center justify-between gap-3 text-sm">
              <span className="font-semibold">{library.name}</span>
              <Select
                label={`Role in ${library.name}`}
                value={person.grants.find((one) => one.library === library.slug)?.role ?? ""}
                options={[
                  { value: "", name: "nothing" },
                  ...NAMES.map((role) => ({ value: role, name: ROLES[role][0] })),
                ]}
                onChange={(to) => grant(library.slug, to)}
                disabled={change.isPending}
              />
            </label>
          ))}
        {change.isError && <ErrorNote error={change.error} />}
        {link.data && (
          <Once label={`With this link ${person.name} chooses a new password`} value={link.data.link}>
            It opens once, until {when(link.data.expires_at)}.
          </Once>
        )}
        {link.isError && <ErrorNote error={link.error} />}
        {remove.isError && <ErrorNote error={remove.error} />}
        <div className="flex flex-wrap gap-2">
          <Button busy={link.isPending} onClick={() => link.mutate(person.id)}>
            Link for a new password
          </Button>
          {person.second_factor && (
            <Button busy={change.isPending} onClick={() => set({ second_factor: false })}>
              Take the second factor away
            </Button>
          )}
          <Button
            look="danger"
            busy={remove.isPending}
            onClick={() => (sure ? remove.mutate(person.id, { onSuccess: onClose }) : setSure(true))}
          >
            {sure ? "Delete it for good" : "Delete the account"}
          </Button>
        </div>
      </div>
    </Sheet>
  );
}

function InviteSheet({ slug, open, onClose }: { slug?: string; open: boolean; onClose: () => void }) {
  const invite = useInvite(slug);
  const libraries = useLibraries();
  const [email, setEmail] = useState("");
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("edit");
  const [service, setService] = useState(false);
  const [chosen, setChosen] = useState<string[]>([]);
  const close = () => {
    invite.reset();
    setEmail("");
    setName("");
    onClose();
  };
  return (
    <Sheet open={open} onClose={close} title="Invite somebody">
      {invite.data ? (
        <div className="space-y-4">
          <Once label={`The link for ${invite.data.email}`} value={invite.data.link}>
            {invite.data.mailed ? "It was mailed too." : "Pass it on yourself: it is shown only once."}
            {invite.data.mail_fault && ` It was not mailed: ${invite.data.mail_fault}.`} It opens once, until{" "}
            {when(invite.data.expires_at)}.
          </Once>
          <div className="flex justify-end">
            <Button look="main" onClick={close}>
              Done
            </Button>
          </div>
        </div>
      ) : (
        <form
          className="space-y-4"
          onSubmit={(event) => {
            event.preventDefault();
            invite.mutate({ email, name, role, service, libraries: chosen });
          }}
        >
          <Field label="E-mail address">
            <input
              className={INPUT}
              type="email"
              required
              value={email}
              onChange={(event) => setEmail(event.target.value)}
            />
          </Field>
          <Field label="Name" hint="What they are called here; they may change it when they come in.">
            <input
              className={INPUT}
              value={name}
              maxLength={120}
              onChange={(event) => setName(event.target.value)}
            />
          </Field>
          {slug === undefined && (
            <Tick label="To administer the whole service" on={service} onChange={setService} />
          )}
          {!service && (
            <fieldset className="space-y-2">
              <legend className="mb-1 text-sm font-semibold">They may</legend>
              {NAMES.map((one) => (
                <label key={one} className="flex items-start gap-2 text-sm">
                  <input
                    type="radio"
                    name="role"
                    className="mt-0.5 h-4 w-4 accent-plum"
                    checked={role === one}
                    onChange={() => setRole(one)}
                  />
                  <span>
                    <span className="block font-semibold">{ROLES[one][0]}</span>
                    <span className="block text-xs text-quiet">{ROLES[one][1]}</span>
                  </span>
                </label>
              ))}
            </fieldset>
          )}
          {slug === undefined && !service && (
            <fieldset className="space-y-1">
              <legend className="mb-1 text-sm font-semibold">In</legend>
              {libraries.data?.map((library) => (
                <Tick
                  key={library.slug}
                  label={library.name}
                  on={chosen.includes(library.slug)}
                  onChange={(on) =>
                    setChosen(on ? [...chosen, library.slug] : chosen.filter((one) => one !== library.slug))
                  }
                />
              ))}
            </fieldset>
          )}
          {invite.isError && <ErrorNote error={invite.error} />}
          <div className="flex justify-end gap-2">
            <Button onClick={close}>Leave it</Button>
            <Button
              type="submit"
              look="main"
              busy={invite.isPending}
              disabled={slug === undefined && !service && chosen.length === 0}
            >
              Make the link
            </Button>
          </div>
        </form>
      )}
    </Sheet>
  );
}

const PURPOSES: Record<Invitation["purpose"], string> = {
  invitation: "invited",
  "set-up": "first administrator",
  "new-password": "new password",
};

function Waiting({ slug }: { slug?: string }) {
  const waiting = useInvitations(slug);
  const takeBack = useTakeBack(slug);
  if (waiting.isError) return <ErrorNote error={waiting.error} again={() => void waiting.refetch()} />;
  if (!waiting.data?.length) return null;
  return (
    <Card title="Links that wait" aside={many(waiting.data.length, "link")}>
      {takeBack.isError && <ErrorNote error={takeBack.error} />}
      <ul className="divide-y divide-line">
        {waiting.data.map((one) => (
          <li key={one.id} className="flex flex-wrap items-center gap-3 py-3 text-sm">
            <span className="min-w-48 flex-1 break-all font-semibold">{one.email || "whoever opens it"}</span>
            <span className="text-quiet">
              {PURPOSES[one.purpose]} by {one.by || "the service"}, {rights(one)}, until{" "}
              {when(one.expires_at)}
            </span>
            <Button look="quiet" busy={takeBack.isPending} onClick={() => takeBack.mutate(one.id)}>
              Take back
            </Button>
          </li>
        ))}
      </ul>
    </Card>
  );
}
