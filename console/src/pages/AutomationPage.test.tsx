// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import type { Library } from "../api/client";
import { LIBRARY, serve, show } from "../testing";
import { MachinePage } from "./MachinePage";
import { AutomationPage } from "./AutomationPage";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const AUTOMATION = {
  new_files: "by-hand",
  watch: false,
  settle_seconds: 2,
  survey_schedule: null,
  run_schedule: null,
  hours: ["22:00-06:00"],
  time_zone: "UTC",
  share: 100,
  backups: true,
  backups_limit: null,
  keep_times: false,
  keep_backups_days: null,
  keep_orphans_days: null,
};
const KEPT = { ...LIBRARY, automation: AUTOMATION } as unknown as Library;

function button(name: string) {
  return screen.getByRole("button", { name }) as HTMLButtonElement;
}

test("what is changed is sent as a whole, once something was", async () => {
  const changed = {
    ...AUTOMATION,
    new_files: "at-once",
    backups_limit: 5_000_000_000,
    survey_schedule: "0 * * * *",
  };
  const sent = serve({ "PATCH /libraries/ledge": { ...KEPT, automation: changed } });
  show(<AutomationPage library={KEPT} />);
  expect(button("Save").disabled).toBe(true);
  fireEvent.click(screen.getByRole("radio", { name: /At once/ }));
  fireEvent.change(screen.getByLabelText("Largest size of the backups, gigabytes"), {
    target: { value: "5" },
  });
  fireEvent.change(screen.getByLabelText(/Survey by schedule/), { target: { value: "0 * * * *" } });
  fireEvent.click(button("Save"));
  await waitFor(() =>
    expect(sent.find(({ method }) => method === "PATCH")?.body).toEqual({ automation: changed }),
  );
});

test("discard takes everything back, the hours too", () => {
  serve({});
  show(<AutomationPage library={KEPT} />);
  const hours = () => screen.getByLabelText(/Hours for bulk runs/) as HTMLInputElement;
  fireEvent.change(hours(), { target: { value: "01:00-02:00" } });
  fireEvent.click(screen.getByLabelText(/Back up every file/));
  expect(screen.getByText(/Without backups nothing that is not exact/)).toBeTruthy();
  fireEvent.click(button("Discard"));
  expect(hours().value).toBe("22:00-06:00");
  expect(screen.queryByText(/Without backups nothing/)).toBeNull();
  expect(button("Save").disabled).toBe(true);
});

test("a refusal is told in its own words, and what was written stays", async () => {
  serve({});
  show(<AutomationPage library={KEPT} />);
  fireEvent.change(screen.getByLabelText("Time zone"), { target: { value: "Ledge/Time" } });
  fireEvent.click(button("Save"));
  expect((await screen.findByRole("alert")).textContent).toContain("There is no such thing");
  expect((screen.getByLabelText("Time zone") as HTMLInputElement).value).toBe("Ledge/Time");
});

test("the machine says of each line whether it is fine, or what to do", async () => {
  const lines = [
    { what: "database", verdict: "fine", detail: "PostgreSQL 15", todo: "" },
    { what: "loop feeding", verdict: "warning", detail: "failed 3 times", todo: "read the worker's log" },
  ];
  serve({ "GET /machine": { verdict: "warning", lines } });
  show(<MachinePage />);
  expect(await screen.findByText("It works. See the marked lines.")).toBeTruthy();
  expect(screen.getAllByRole("listitem").map((line) => line.textContent)).toEqual([
    "databasePostgreSQL 15",
    "loop feedingfailed 3 timesread the worker's log",
  ]);
  expect(screen.getByLabelText("fine")).toBeTruthy();
  expect(screen.getByLabelText("warning")).toBeTruthy();
});

test("a machine that does not answer can be asked again", async () => {
  serve({});
  show(<MachinePage />);
  expect((await screen.findByRole("alert")).textContent).toContain("There is no such thing");
  serve({ "GET /machine": { verdict: "fine", lines: [] } });
  fireEvent.click(button("Try again"));
  expect(await screen.findByText("Everything is fine.")).toBeTruthy();
});
