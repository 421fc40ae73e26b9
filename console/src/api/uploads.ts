/** Pictures put into the library from the browser, one after the other. */

import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { api, ask, Problem } from "./client";
import { stale } from "./queries";
import type { components } from "./schema.gen";

export type Uploaded = components["schemas"]["Uploaded"];

export interface Upload {
  path: string;
  file: File;
  /** It takes the place of what has its name. */
  replaces: boolean;
  state: "waiting" | "sending" | "there" | "taken" | "refused";
  made?: Uploaded;
  said?: string;
}

/** So many seconds the service waits for the light file before it answers. */
const WAIT = 120;

async function send(slug: string, { path, file, replaces }: Upload): Promise<Partial<Upload>> {
  try {
    const made = await ask(
      api.PUT("/api/v1/libraries/{slug}/files/{path}", {
        params: { path: { slug, path }, query: { wait: WAIT } },
        body: file as unknown as string,
        bodySerializer: (body) => body as unknown as Blob,
        headers: {
          "Content-Type": "application/octet-stream",
          ...(replaces ? { "If-Match": "*" } : {}),
        },
      }),
    );
    return { state: "there", made };
  } catch (error) {
    if (error instanceof Problem && error.code === "name-taken") return { state: "taken" };
    return { state: "refused", said: error instanceof Error ? error.message : String(error) };
  }
}

/** What is sent and what was sent since this was shown. Files are sent one by one: each is light before the next. */
export function useUploads(slug: string) {
  const cache = useQueryClient();
  const [uploads, setUploads] = useState<Upload[]>([]);
  const all = useRef<Upload[]>([]);
  const busy = useRef(false);
  const shown = useRef(true);
  useEffect(() => {
    shown.current = true;
    return () => {
      shown.current = false;
    };
  }, []);

  const put = useCallback((change: (uploads: Upload[]) => Upload[]) => {
    all.current = change(all.current);
    setUploads(all.current);
  }, []);

  const work = useCallback(async () => {
    if (busy.current) return;
    busy.current = true;
    while (shown.current) {
      const next = all.current.find((one) => one.state === "waiting");
      if (next === undefined) break;
      const note = (part: Partial<Upload>) =>
        put((now) => now.map((one) => (one.file === next.file ? { ...one, ...part } : one)));
      note({ state: "sending" });
      note(await send(slug, next));
      stale(cache, ["pictures", "folders", "libraries", "savings"]);
    }
    busy.current = false;
  }, [cache, put, slug]);

  const add = useCallback(
    (files: File[], folder: string) => {
      const within = folder.replace(/^\/+|\/+$/g, "");
      const fresh = files.map((file): Upload => ({
        path: within ? `${within}/${file.name}` : file.name,
        file,
        replaces: false,
        state: "waiting",
      }));
      const paths = new Set(fresh.map((one) => one.path));
      put((now) => [...now.filter((one) => !paths.has(one.path)), ...fresh]);
      void work();
    },
    [put, work],
  );

  const again = useCallback(
    (path: string, replaces: boolean) => {
      put((now) => now.map((one) => (one.path === path ? { ...one, replaces, state: "waiting" } : one)));
      void work();
    },
    [put, work],
  );

  return { uploads, add, again };
}
