// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { Route, Routes } from "react-router";
import { afterEach, expect, test, vi } from "vitest";
import type { Person } from "../api/client";
import { App } from "../App";
import { LIBRARY, PERSON, choose, pageOf, serve, show } from "../testing";
import { AccountPage, browserOf } from "./AccountPage";
import { LibraryAuditPage, ServiceAuditPage } from "./AuditPage";
import { JoinPage } from "./JoinPage";
import { LibraryKeysPage, ServiceKeysPage } from "./KeysPage";
import { ROLES, LibraryPeoplePage, ServicePeoplePage } from "./PeoplePage";
import { SettingsPage } from "./SettingsPage";
import { SignIn } from "./SignIn";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const MEMBER = { id: 4, name: "The mate", email: "mate@ledge.example", role: "edit" };
const LINK = {
  id: 1,
  purpose: "invitation",
  email: "new@ledge.example",
  name: "",
  service: false,
  grants: [],
  by: "The keeper",
  created_at: "2026-06-01T00:00:00Z",
  expires_at: "2026-06-08T00:00:00Z",
  link: "http://x/join#abc",
  mailed: false,
};
const KEY = {
  id: 9,
  name: "the site",
  abilities: ["look", "upload"],
  libraries: ["ledge"],
  service: false,
  hint: "Zz91",
  by: "The keeper",
  created_at: "2026-06-01T00:00:00Z",
  expires_at: null,
  last_used_at: null,
  last_used_from: null,
  replaces: null,
};
const ROW = {
  id: 3,
  name: "The keeper",
  email: "keeper@ledge.example",
  service: true,
  suspended: false,
  second_factor: true,
  grants: [],
  created_at: "2026-06-01T00:00:00Z",
  signed_in_at: null,
};

test("people of a library: their roles are changed, and they are taken out after a question", async () => {
  const sent = serve({
    "GET /libraries/ledge/people": pageOf([MEMBER]),
    "GET /libraries/ledge/invitations": pageOf([]),
    "PUT /libraries/ledge/people/4": { ...MEMBER, role: "treat" },
    "DELETE /libraries/ledge/people/4": null,
  });
  show(<LibraryPeoplePage library={LIBRARY} />);
  await choose(await screen.findByRole("combobox", { name: "What The mate may do" }), ROLES.treat[0]);
  await waitFor(() => expect(sent.find((one) => one.method === "PUT")?.body).toEqual({ role: "treat" }));
  fireEvent.click(screen.getByText("Take out"));
  expect(sent.some((one) => one.method === "DELETE")).toBe(false);
  fireEvent.click(within(await screen.findByRole("dialog")).getByRole("button", { name: "Take out" }));
  await waitFor(() =>
    expect(sent.some((one) => one.method === "DELETE" && one.path.endsWith("/people/4"))).toBe(true),
  );
});

test("an invitation's link is shown once, with what becomes of it", async () => {
  const sent = serve({
    "GET /libraries/ledge/people": pageOf([]),
    "GET /libraries/ledge/invitations": pageOf([LINK]),
    "POST /libraries/ledge/invitations": LINK,
    "DELETE /libraries/ledge/invitations/1": null,
  });
  show(<LibraryPeoplePage library={LIBRARY} />);
  expect(await screen.findByText("Nobody yet")).toBeTruthy();
  fireEvent.click(screen.getAllByText("Invite somebody")[0]!);
  fireEvent.change(screen.getByLabelText(/E-mail/), { target: { value: "new@ledge.example" } });
  fireEvent.click(screen.getByLabelText(/Treat/));
  fireEvent.click(screen.getByText("Make the link"));
  expect(await screen.findByText("http://x/join#abc")).toBeTruthy();
  expect(sent.find((one) => one.method === "POST")?.body).toEqual({
    email: "new@ledge.example",
    name: "",
    role: "treat",
    days: 7,
  });
  fireEvent.click(screen.getByText("Done"));
  expect(screen.queryByText("http://x/join#abc")).toBeNull();
  fireEvent.click(screen.getByText("Take back"));
  await waitFor(() => expect(sent.some((one) => one.method === "DELETE")).toBe(true));
});

test("the service's people: everything about an account, deleted only at the second word", async () => {
  const sent = serve({
    "GET /people": pageOf([
      ROW,
      {
        ...ROW,
        id: 5,
        name: "Hand",
        service: false,
        second_factor: false,
        grants: [{ library: "ledge", role: "look" }],
      },
    ]),
    "GET /invitations": pageOf([]),
    "GET /libraries": [LIBRARY],
    "PATCH /people/5": ROW,
    "DELETE /people/5": null,
    "POST /people/5/new-password": LINK,
  });
  show(<ServicePeoplePage />);
  expect(await screen.findByText("administers the service")).toBeTruthy();
  expect(screen.getByText("look in ledge")).toBeTruthy();
  fireEvent.click(screen.getAllByText("Change")[1]!);
  await choose(await screen.findByRole("combobox", { name: "Role in Gannet Ledge" }), ROLES.administer[0]);
  await waitFor(() =>
    expect(sent.find((one) => one.method === "PATCH")?.body).toEqual({
      grants: [{ library: "ledge", role: "administer" }],
    }),
  );
  fireEvent.click(screen.getByText("Link for a new password"));
  expect(await screen.findByText("http://x/join#abc")).toBeTruthy();
  fireEvent.click(screen.getByText("Delete the account"));
  expect(sent.some((one) => one.method === "DELETE")).toBe(false);
  fireEvent.click(screen.getByText("Delete it for good"));
  await waitFor(() => expect(sent.some((one) => one.method === "DELETE")).toBe(true));
});

test("keys: made with no more rights than chosen, rotated with an overlap, revoked after a question", async () => {
  const made = { ...KEY, secret: "plumkey-abc" };
  const sent = serve({
    "GET /libraries/ledge/keys": pageOf([
      KEY,
      { ...KEY, id: 10, name: "old", expires_at: "2020-01-01T00:00:00Z" },
    ]),
    "POST /libraries/ledge/keys": made,
    "POST /libraries/ledge/keys/9/rotation": made,
    "DELETE /libraries/ledge/keys/9": null,
  });
  show(<LibraryKeysPage library={LIBRARY} />);
  expect(await screen.findAllByText("…Zz91")).toHaveLength(2);
  expect(screen.getByText("expired")).toBeTruthy();
  fireEvent.click(screen.getByText("Make a key"));
  fireEvent.change(screen.getByLabelText(/^Name/), { target: { value: "the site" } });
  fireEvent.click(screen.getByLabelText(/Upload/));
  fireEvent.click(screen.getByText("Make it"));
  expect(await screen.findByText("plumkey-abc")).toBeTruthy();
  expect(sent.find((one) => one.method === "POST")?.body).toEqual({
    name: "the site",
    abilities: ["look", "upload"],
    days: 365,
  });
  fireEvent.click(screen.getByText("Done"));
  fireEvent.click(screen.getAllByText("New secret")[0]!);
  fireEvent.change(screen.getByLabelText("Hours for which both work"), { target: { value: "2" } });
  fireEvent.click(screen.getByText("Make it"));
  await waitFor(() =>
    expect(sent.find((one) => one.path.endsWith("/rotation"))?.body).toEqual({ overlap_hours: 2 }),
  );
  fireEvent.click(await screen.findByText("Done"));
  fireEvent.click(screen.getAllByText("Revoke")[0]!);
  fireEvent.click(within(await screen.findByRole("dialog")).getByRole("button", { name: "Revoke" }));
  await waitFor(() => expect(sent.some((one) => one.method === "DELETE")).toBe(true));
});

test("a key of the service is for all libraries, or for those that are chosen", async () => {
  const sent = serve({
    "GET /keys": pageOf([]),
    "GET /libraries": [LIBRARY],
    "POST /keys": { ...KEY, secret: "s" },
  });
  show(<ServiceKeysPage />);
  fireEvent.click((await screen.findAllByText("Make a key"))[0]!);
  fireEvent.change(screen.getByLabelText(/^Name/), { target: { value: "build" } });
  fireEvent.click(await screen.findByLabelText("Gannet Ledge"));
  fireEvent.click(screen.getByText("Make it"));
  await waitFor(() =>
    expect(sent.find((one) => one.method === "POST")?.body).toEqual({
      name: "build",
      abilities: ["look"],
      days: 365,
      service: false,
      libraries: ["ledge"],
    }),
  );
});

test("the audit log is searched, and says what was refused", async () => {
  const entry = {
    id: 1,
    at: "2026-06-01T10:00:00Z",
    actor: "",
    kind: "stranger",
    email: "guess@x.example",
    address: "203.0.113.9",
    library: null,
    act: "Sign in",
    target: "POST /session",
    outcome: "refused",
    detail: "wrong-sign-in",
  };
  const sent = serve({
    "GET /audit": { rows: [entry], total: 130, cursor: "onward" },
    "GET /libraries/ledge/audit": { rows: [], total: 0, cursor: null },
  });
  show(<ServiceAuditPage />);
  expect(await screen.findByText("guess@x.example")).toBeTruthy();
  expect(screen.getByText("refused: wrong-sign-in")).toBeTruthy();
  fireEvent.click(screen.getByText("Show earlier ones"));
  await waitFor(() => expect(sent.at(-1)?.query.after).toBe("onward"));
  fireEvent.change(screen.getByLabelText("Search"), { target: { value: "keeper" } });
  await waitFor(() => expect(sent.length).toBeGreaterThanOrEqual(3));
  cleanup();
  show(<LibraryAuditPage library={LIBRARY} />);
  expect(await screen.findByText("Nothing of that kind")).toBeTruthy();
});

test("an account: password, second factor with its codes, browsers", async () => {
  const sent = serve({
    "GET /me/sessions": [
      {
        id: 1,
        current: true,
        created_at: "2026-06-01T00:00:00Z",
        seen_at: "2026-06-01T00:00:00Z",
        address: "127.0.0.1",
        browser: "Mozilla/5.0 (X11; Linux x86_64) Chrome/130.0",
      },
      {
        id: 2,
        current: false,
        created_at: "2026-06-01T00:00:00Z",
        seen_at: "2026-06-01T00:00:00Z",
        address: "10.0.0.9",
        browser: "curl/8",
      },
    ],
    "DELETE /me/sessions/2": null,
    "PUT /me/password": null,
    "POST /me/second-factor": { secret: "ABCDEF", address: "otpauth://totp/x", image: "<svg/>" },
    "PUT /me/second-factor": { codes: ["AAAA-BBBB-CCCC-DDDD"] },
  });
  show(<AccountPage person={PERSON} />);
  expect(await screen.findByText(/Chrome on Linux/)).toBeTruthy();
  fireEvent.click(screen.getByText("Sign out there"));
  await waitFor(() =>
    expect(sent.some((one) => one.method === "DELETE" && one.path === "/me/sessions/2")).toBe(true),
  );
  fireEvent.change(screen.getByLabelText("The one you have"), { target: { value: "old tide" } });
  fireEvent.change(screen.getByLabelText(/The new one/), { target: { value: "a new tide at noon" } });
  fireEvent.click(screen.getByText("Change it"));
  expect(await screen.findByText("Changed.")).toBeTruthy();
  fireEvent.change(screen.getByLabelText("Your password"), { target: { value: "a new tide at noon" } });
  fireEvent.click(screen.getByText("Set it up"));
  expect(await screen.findByText("ABCDEF")).toBeTruthy();
  fireEvent.change(screen.getByLabelText("The six digits"), { target: { value: "123456" } });
  fireEvent.click(screen.getByText("Put it in force"));
  expect(await screen.findByText("AAAA-BBBB-CCCC-DDDD")).toBeTruthy();
  expect(sent.find((one) => one.path === "/me/second-factor" && one.method === "PUT")?.body).toEqual({
    code: "123456",
  });
});

test("settings say where they come from", async () => {
  serve({
    "GET /settings": [
      { name: "port", value: "8020", origin: "default", meaning: "where it listens" },
      {
        name: "database_url",
        value: "postgresql://me:…@db/x",
        origin: "/etc/plumcrate/settings.toml",
        meaning: "",
      },
    ],
  });
  show(<SettingsPage />);
  expect(await screen.findByText("/etc/plumcrate/settings.toml")).toBeTruthy();
  expect(screen.getByText("as usual")).toBeTruthy();
  cleanup();
  serve({});
  show(<SettingsPage />);
  expect(await screen.findByRole("alert")).toBeTruthy();
});

test("browsers by the names that people use", () => {
  expect(browserOf("Mozilla/5.0 (Windows NT 10.0) Chrome/130 Safari/537 Edg/130")).toBe("Edge on Windows");
  expect(browserOf("Mozilla/5.0 (iPhone; CPU iPhone OS) Version/17 Safari/604")).toBe("Safari on iOS");
  expect(browserOf("")).toBe("A browser");
});

test("a link that opens nothing says so; one that does makes the account", async () => {
  serve({});
  show(<JoinPage />, "/join#gone");
  expect(await screen.findByText("There is no such thing")).toBeTruthy();
  expect(screen.queryByText("Try again")).toBeNull();
  cleanup();
  const offer = {
    purpose: "set-up",
    email: "",
    name: "",
    service: true,
    libraries: [],
    expires_at: "2026-06-08T00:00:00Z",
  };
  const sent = serve({ "POST /joining/offer": offer, "POST /joining": PERSON });
  show(
    <Routes>
      <Route path="/join" element={<JoinPage />} />
      <Route path="/" element={<p>come in</p>} />
    </Routes>,
    "/join#token",
  );
  fireEvent.change(await screen.findByLabelText(/E-mail/), { target: { value: "keeper@ledge.example" } });
  fireEvent.change(screen.getByLabelText(/Your name/), { target: { value: "The keeper" } });
  fireEvent.change(screen.getByLabelText(/A password/), { target: { value: "the tide is out at noon" } });
  fireEvent.click(screen.getByRole("button", { name: "Come in" }));
  expect(await screen.findByText("come in")).toBeTruthy();
  expect(sent.find((one) => one.path === "/joining")?.body).toEqual({
    token: "token",
    name: "The keeper",
    email: "keeper@ledge.example",
    password: "the tide is out at noon",
  });
});

test("signing in asks for the second factor only when it is needed", async () => {
  vi.stubGlobal("fetch", async (request: Request) => {
    const body = JSON.parse(await request.text()) as { code: string | null };
    if (body.code)
      return new Response(JSON.stringify(PERSON), {
        status: 200,
        headers: { "content-type": "application/json" },
      });
    return new Response(
      JSON.stringify({
        type: "urn:plumcrate:problem:second-factor",
        title: "The second factor is missing",
        status: 401,
        detail: "give the six digits",
      }),
      { status: 401, headers: { "content-type": "application/json" } },
    );
  });
  const { cache } = show(<SignIn />, "/", null);
  expect(screen.queryByLabelText(/six digits/)).toBeNull();
  fireEvent.change(screen.getByLabelText("E-mail address"), { target: { value: "keeper@ledge.example" } });
  fireEvent.change(screen.getByLabelText("Password"), { target: { value: "the tide" } });
  fireEvent.click(screen.getByRole("button", { name: "Sign in" }));
  fireEvent.change(await screen.findByLabelText(/six digits/), { target: { value: "123456" } });
  fireEvent.click(screen.getByRole("button", { name: "Sign in" }));
  await waitFor(() => expect(cache.getQueryData(["person"])).toEqual(PERSON));
});

test("an editor sees the pictures, and nothing that is not theirs", async () => {
  vi.stubGlobal(
    "EventSource",
    class {
      addEventListener() {}
      close() {}
    },
  );
  const editor: Person = {
    ...PERSON,
    service: false,
    access: [{ library: "ledge", role: "edit", abilities: ["look", "mend", "upload"] }],
  };
  serve({ "GET /session": editor, "GET /libraries": [LIBRARY], "GET /runs": pageOf([]) });
  show(<App />, "/l/ledge", editor);
  const work = await screen.findByRole("navigation", { name: "The work" });
  await waitFor(() =>
    expect(
      within(work)
        .getAllByRole("link")
        .map((link) => link.textContent),
    ).toEqual(["Look", "Review"]),
  );
  expect(screen.queryByText("Survey again")).toBeNull();
});
