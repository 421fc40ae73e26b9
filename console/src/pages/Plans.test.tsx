// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { LIBRARY, PERSON, job, pageOf, serve, show } from "../testing";
import { AllowancePage, monthName } from "./AllowancePage";
import { ReportPage } from "./ReportPage";
import { WebhooksPage } from "./WebhooksPage";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const button = (name: string | RegExp) => screen.getByRole("button", { name });
const BOTH = { person: { ...PERSON, service: false } };
const ALLOWANCE = {
  library: "ledge",
  unit: "megapixels",
  amount: 120,
  used: 124,
  left: 0,
  month: "2026-11",
  resets_at: "2026-12-01T00:00:00+01:00",
  time_zone: "Europe/Berlin",
  files_waiting: 210,
  notice: "The allowance of 120 megapixels for November 2026 is used up; new work waits for 1 December.",
  months: [
    { month: "2026-11", files: 127, megapixels: 124 },
    { month: "2026-10", files: 20, megapixels: 31.25 },
  ],
};

test("an allowance that is used up says so, how many files wait, and when it begins anew", async () => {
  serve({ "GET /libraries/ledge/allowance": ALLOWANCE });
  show(<AllowancePage library={LIBRARY} />);
  expect(await screen.findByRole("img", { name: "100 % of the allowance is used" })).toBeTruthy();
  expect(screen.getByText("anew on 1 December")).toBeTruthy();
  expect(screen.getByText("210")).toBeTruthy();
  expect(screen.getByRole("note").textContent).toContain("new work waits for 1 December");
  expect(screen.getByText("20 files, 31.3 megapixels")).toBeTruthy();
});

test("who administers the service sets it, and takes the limit away", async () => {
  const sent = serve({
    "GET /libraries/ledge/allowance": ALLOWANCE,
    "PUT /libraries/ledge/allowance": {
      ...ALLOWANCE,
      unit: "files",
      amount: null,
      left: null,
      notice: null,
      files_waiting: 0,
    },
  });
  show(<AllowancePage library={LIBRARY} />);
  fireEvent.click(await screen.findByLabelText(/Files/));
  fireEvent.change(screen.getByLabelText("So many a month"), { target: { value: "" } });
  fireEvent.click(button("Save"));
  await waitFor(() =>
    expect(sent.find((one) => one.method === "PUT")?.body).toEqual({ unit: "files", amount: null }),
  );
  expect(await screen.findByText("used; there is no limit")).toBeTruthy();
  expect(screen.queryByRole("note")).toBeNull();
});

test("others see what is left and whom to ask", async () => {
  serve({
    "GET /libraries/ledge/allowance": {
      ...ALLOWANCE,
      used: 20,
      left: 100,
      notice: null,
      files_waiting: 0,
      months: [],
    },
  });
  show(<AllowancePage library={LIBRARY} />, "/", BOTH.person);
  expect(await screen.findByText(/Administrators of the whole service set the allowance/)).toBeTruthy();
  expect(screen.queryByRole("button", { name: "Save" })).toBeNull();
  expect(screen.getByText("Nothing was treated yet")).toBeTruthy();
});

test("an allowance that cannot be had is asked for again", async () => {
  const sent = serve({});
  show(<AllowancePage library={LIBRARY} />);
  fireEvent.click(await screen.findByRole("button", { name: "Try again" }));
  await waitFor(() =>
    expect(sent.filter((one) => one.path.endsWith("/allowance")).length).toBeGreaterThan(1),
  );
});

const SLAT = { name: "2026-11", files: 9, bytes_before: 9000, bytes_now: 4500, bytes_lightest: 2700 };
const SHOWN = {
  picture_id: 3,
  file_id: 9,
  path: "2025/kite.jpg",
  bytes_before: 1000,
  bytes_now: 400,
  bytes_lightest: 300,
  worst: 57.6,
};
const REPORT = {
  library: "ledge",
  name: "Gannet Ledge",
  client: "The trust",
  sender: "Quayside",
  begins: "2026-01",
  ends: "2026-11",
  first_day: "2026-01-01",
  last_day: "2026-11-30",
  time_zone: "UTC",
  made_at: "2026-11-26T12:00:00Z",
  pictures: 5,
  treated: SLAT,
  whole: SLAT,
  copies: 3,
  bytes_copies: 900,
  by_month: [SLAT],
  by_format: [{ ...SLAT, name: "jpeg" }],
  by_folder: [{ ...SLAT, name: "" }],
  sent: { name: "", requests: 30, bytes: 1_000_000, bytes_before: 5_000_000 },
  sent_by_month: [{ name: "2026-10", requests: 30, bytes: 1_000_000, bytes_before: 5_000_000 }],
  best: [SHOWN],
  worst: [SHOWN],
  pages: [
    {
      address: "https://ledge.example/visit",
      device: "phone",
      first_at: "",
      latest_at: "",
      picture_bytes_first: 900_000,
      picture_bytes_latest: 200_000,
      lcp_first: 1.25,
      lcp_latest: null,
    },
  ],
};
const SETTINGS = { client: "The trust", sender: "Quayside", monthly: false };
const FILLED = {
  "GET /libraries/ledge/report": REPORT,
  "GET /libraries/ledge/report-settings": SETTINGS,
  "GET /libraries/ledge/reports": [{ month: "2026-10", made_at: "2026-11-01T00:05:00Z" }],
  "GET /libraries/ledge/jobs": pageOf([]),
};

test("a report shows its sums, its pictures and its pages, and where to fetch it", async () => {
  serve(FILLED);
  show(<ReportPage library={LIBRARY} />);
  expect(await screen.findByText("For The trust")).toBeTruthy();
  for (const words of [
    "9.00 kB are 4.50 kB now; a modern browser fetches 2.70 kB.",
    "4.00 MB",
    "November 2026",
    "the folder itself",
    "https://ledge.example/visit",
    "900 kB → 200 kB",
    "1.25 s → –",
    "worst place 57.6",
  ]) {
    expect(screen.getAllByText(words).length).toBeGreaterThan(0);
  }
  const link = screen.getByRole("link", { name: /PDF for the client/ });
  expect(link.getAttribute("href")).toMatch(
    /^\/api\/v1\/libraries\/ledge\/report\/pdf\?begins=\d{4}-01&ends=\d{4}-\d{2}$/,
  );
  fireEvent.change(screen.getByLabelText("From"), { target: { value: "2025-03" } });
  expect(screen.getByRole("link", { name: /PDF for the client/ }).getAttribute("href")).toContain(
    "begins=2025-03",
  );
  fireEvent.change(screen.getByLabelText("From"), { target: { value: "" } });
  expect(screen.getByRole("link", { name: /PDF for the client/ }).getAttribute("href")).toContain(
    "begins=2025-03",
  );
  expect(screen.getAllByText("October 2026").length).toBe(2);
  expect(screen.getByRole("link", { name: "PDF" }).getAttribute("href")).toBe(
    "/api/v1/libraries/ledge/reports/2026-10/pdf",
  );
});

test("months in which nothing was treated say so, and keep what else there is", async () => {
  serve({
    ...FILLED,
    "GET /libraries/ledge/report": { ...REPORT, treated: { ...SLAT, files: 0 } },
    "GET /libraries/ledge/reports": [],
  });
  show(<ReportPage library={LIBRARY} />);
  expect(await screen.findByText("No file was treated in these months")).toBeTruthy();
  expect(await screen.findByText("None yet")).toBeTruthy();
});

test("whose report it is, and that one is made each month, is saved as a whole", async () => {
  const sent = serve({ ...FILLED, "PUT /libraries/ledge/report-settings": { ...SETTINGS, monthly: true } });
  show(<ReportPage library={LIBRARY} />);
  fireEvent.click(await screen.findByLabelText(/Make one when a month is over/));
  fireEvent.change(screen.getByLabelText(/^For/), { target: { value: "Someone" } });
  fireEvent.click(button("Save"));
  await waitFor(() =>
    expect(sent.find((one) => one.method === "PUT")?.body).toEqual({
      client: "Someone",
      sender: "Quayside",
      monthly: true,
    }),
  );
});

test("a month's report is made and kept, and one that failed says why", async () => {
  const failed = job("report", {
    state: "failed",
    reason: "it could not be put into /reports/ledge",
    report: { month: "2026-10", bytes: 0, folder: null },
  });
  const sent = serve({
    ...FILLED,
    "GET /libraries/ledge/jobs": pageOf([failed]),
    "POST /libraries/ledge/reports": job("report", { state: "waiting" }),
  });
  show(<ReportPage library={LIBRARY} />);
  expect(await screen.findByText("it could not be put into /reports/ledge")).toBeTruthy();
  fireEvent.click(button("Make and keep it"));
  await waitFor(() =>
    expect(sent.find((one) => one.method === "POST")?.body).toMatchObject({
      month: expect.stringMatching(/^\d{4}-\d{2}$/) as string,
    }),
  );
  expect(await screen.findByText("Being made")).toBeTruthy();
});

test("who only looks sees the report and changes nothing of it", async () => {
  serve(FILLED);
  const looker = {
    ...PERSON,
    service: false,
    access: [{ library: "ledge", role: "look" as const, abilities: ["look" as const] }],
  };
  show(<ReportPage library={LIBRARY} />, "/", looker);
  expect(await screen.findByText("For The trust")).toBeTruthy();
  expect(screen.queryByText("Whose report it is")).toBeNull();
  expect(screen.queryByText("Make and keep it")).toBeNull();
});

const WEBHOOK = {
  id: 4,
  address: "https://x.example/in",
  events: ["allowance.nearly-used", "allowance.used", "report.ready"],
  created_at: "2026-11-01T00:00:00Z",
  refused_since: null,
  stopped_at: null,
  messages: [],
};
const TOLD = {
  id: "msg_1",
  type: "report.ready",
  at: "2026-11-01T00:05:00Z",
  sent_at: null,
  next_at: null,
  attempts: 10,
  given_up: true,
  said: "it answered 500",
};

test("a webhook is added, shows its secret this once, is changed and tried", async () => {
  const answers: Record<string, unknown> = {
    "GET /libraries/ledge/webhooks": [],
    "POST /libraries/ledge/webhooks": { secret: "whsec_made", webhook: WEBHOOK },
    "PUT /libraries/ledge/webhooks/4": { ...WEBHOOK, events: ["allowance.nearly-used", "report.ready"] },
    "POST /libraries/ledge/webhooks/4/trial": {
      ...WEBHOOK,
      messages: [
        {
          ...TOLD,
          type: "webhook.trial",
          next_at: "2026-11-01T00:06:00Z",
          attempts: 0,
          said: null,
          given_up: false,
        },
      ],
    },
  };
  const sent = serve(answers);
  show(<WebhooksPage library={LIBRARY} />);
  fireEvent.click(await screen.findByRole("button", { name: "Add a webhook" }));
  fireEvent.change(screen.getByLabelText(/Send to/), { target: { value: "https://x.example/in" } });
  answers["GET /libraries/ledge/webhooks"] = [WEBHOOK];
  fireEvent.click(button("Add"));
  expect(await screen.findByText("whsec_made")).toBeTruthy();
  expect(sent.find((one) => one.method === "POST")?.body).toEqual({
    address: "https://x.example/in",
    events: ["allowance.nearly-used", "allowance.used", "report.ready"],
  });
  expect(await screen.findByText("Nothing was told yet.")).toBeTruthy();
  fireEvent.click(screen.getByLabelText(/The allowance is used up/));
  fireEvent.click(button("Save"));
  await waitFor(() =>
    expect(sent.find((one) => one.method === "PUT")?.body).toEqual({
      address: "https://x.example/in",
      events: ["allowance.nearly-used", "report.ready"],
    }),
  );
  expect(await screen.findByText("whsec_made")).toBeTruthy();
  fireEvent.click(button("Send a message to try it"));
  expect(await screen.findByText("on its way")).toBeTruthy();
});

test("messages say how they fared, and why one was given up", async () => {
  const more = Array.from({ length: 6 }, (_, number) => ({
    ...TOLD,
    id: `msg_more${String(number)}`,
    said: null,
    given_up: false,
    sent_at: "2026-11-01T00:05:01Z",
  }));
  serve({ "GET /libraries/ledge/webhooks": [{ ...WEBHOOK, messages: [TOLD, ...more] }] });
  show(<WebhooksPage library={LIBRARY} />);
  expect(await screen.findByText("given up")).toBeTruthy();
  expect(screen.getByText("it answered 500")).toBeTruthy();
  expect(screen.getAllByText("taken")).toHaveLength(4);
  fireEvent.click(button("Show 2 more"));
  expect(screen.getAllByText("taken")).toHaveLength(6);
});

test("a webhook that was stopped says so, and can be removed", async () => {
  const answers: Record<string, unknown> = {
    "GET /libraries/ledge/webhooks": [
      {
        ...WEBHOOK,
        refused_since: "2026-11-01T00:05:00Z",
        stopped_at: "2026-11-02T00:06:00Z",
        messages: [{ ...TOLD, given_up: false }],
      },
      { ...WEBHOOK, id: 5, address: "https://y.example/" },
    ],
    "DELETE /libraries/ledge/webhooks/4": null,
  };
  const sent = serve(answers);
  show(<WebhooksPage library={LIBRARY} />);
  expect(await screen.findByText(/It was stopped on/)).toBeTruthy();
  expect(screen.getByText("waits")).toBeTruthy();
  expect(screen.getByText("y.example")).toBeTruthy();
  fireEvent.click(screen.getAllByRole("button", { name: "Remove" })[0]!);
  answers["GET /libraries/ledge/webhooks"] = [];
  fireEvent.click(button("Remove it"));
  expect(await screen.findByText("Nobody is told yet")).toBeTruthy();
  expect(sent.filter((one) => one.method === "DELETE")).toHaveLength(1);
});

test("the site's own secret is shown once it was made", async () => {
  serve({
    "GET /libraries/ledge/webhooks": [WEBHOOK],
    "POST /libraries/ledge/hook-secret": { url: "http://x/api/v1/hooks/ledge", secret: "whsec_site" },
  });
  show(<WebhooksPage library={LIBRARY} />);
  await screen.findByText("Nothing was told yet.");
  expect(screen.queryByText("whsec_site")).toBeNull();
  fireEvent.click(button("Make a secret"));
  expect(await screen.findByText("whsec_site")).toBeTruthy();
  expect(screen.getByText("http://x/api/v1/hooks/ledge")).toBeTruthy();
});

test("months are named", () => {
  expect(monthName("2026-01")).toBe("January 2026");
  expect(monthName("2026-12")).toBe("December 2026");
});
