// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { LIBRARY, serve, show } from "../testing";
import { UploadSheet } from "./UploadSheet";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const MADE = {
  path: "2026/12/kite.jpg",
  picture_id: 7,
  file_id: 9,
  run_id: 3,
  state: "light",
  reason: null,
  size_before: 200_000,
  size_now: 80_000,
};
const TAKEN = { type: "urn:plumcrate:problem:name-taken", title: "The name is taken", status: 409 };
const PLACE = "PUT /libraries/ledge/files/2026%2F12%2Fkite.jpg";

const picture = (name: string) => new File(["1"], name, { type: "image/jpeg" });

test("a picture is sent into its folder, and says how light it is; a taken name is replaced only when asked", async () => {
  const answers: Record<string, unknown> = { [PLACE]: TAKEN };
  const sent = serve(answers);
  show(<UploadSheet library={LIBRARY} folder="2026" onClose={() => undefined} />);
  fireEvent.change(screen.getByLabelText(/Into the folder/), { target: { value: "/2026/12/" } });
  fireEvent.change(screen.getByLabelText(/Choose pictures/), { target: { files: [picture("kite.jpg")] } });
  expect(await screen.findByText("name taken")).toBeTruthy();
  const puts = () => sent.filter((one) => one.method === "PUT");
  expect(puts().map((one) => one.basis)).toEqual([null]);
  answers[PLACE] = MADE;
  fireEvent.click(screen.getByRole("button", { name: "Replace it" }));
  expect(await screen.findByText("200 kB became 80.0 kB.")).toBeTruthy();
  expect(puts().map((one) => one.basis)).toEqual([null, "*"]);
});

test("one that is refused says why, and does not hold up the others", async () => {
  const refusal = {
    type: "urn:plumcrate:problem:not-a-picture",
    title: "The file is not a picture",
    status: 422,
    detail: "notes.txt is text",
  };
  const answers: Record<string, unknown> = {
    "PUT /libraries/ledge/files/notes.txt": refusal,
    "PUT /libraries/ledge/files/kite.jpg": { ...MADE, path: "kite.jpg" },
  };
  const sent = serve(answers);
  show(<UploadSheet library={LIBRARY} folder="" onClose={() => undefined} />);
  fireEvent.change(screen.getByLabelText(/Choose pictures/), {
    target: { files: [picture("notes.txt"), picture("kite.jpg")] },
  });
  expect(await screen.findByText("light")).toBeTruthy();
  expect(screen.getByText("The file is not a picture: notes.txt is text")).toBeTruthy();
  fireEvent.click(screen.getByRole("button", { name: "Try again" }));
  await waitFor(() => expect(sent.filter((one) => one.path.endsWith("notes.txt"))).toHaveLength(2));
});
