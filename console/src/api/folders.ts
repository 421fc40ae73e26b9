/** Folders of the service's machine among which an administrator chooses one to connect. */

import { useQuery } from "@tanstack/react-query";
import { api, ask } from "./client";
import { keys } from "./keys";
import type { components } from "./schema.gen";

export type FolderView = components["schemas"]["FolderView"];

/** What is in a folder; with none: those that are offered. */
export function useFolder(path: string | null) {
  return useQuery({
    queryKey: keys.folder(path),
    queryFn: () => ask(api.GET("/api/v1/folders", { params: { query: { ...(path !== null && { path }) } } })),
    retry: false,
  });
}

export const examplePreview = (path: string) =>
  `/api/v1/folders/preview?width=240&path=${encodeURIComponent(path)}`;
