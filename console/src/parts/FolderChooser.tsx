/** Chooses a folder by looking into it: what is below, how many pictures, six of them, and what made them. */

import { useState } from "react";
import { examplePreview, useFolder, type FolderView } from "../api/folders";
import { bytes, many } from "../look/words";
import { Button, ErrorNote, Mind, Shape } from "./ui";

export function FolderChooser({ chosen, onChoose }: { chosen: string; onChoose: (path: string) => void }) {
  const [path, setPath] = useState<string | null>(null);
  const found = useFolder(path);
  const view = found.data;
  return (
    <section aria-label="What this machine offers" className="rounded-md border border-line p-4">
      {found.isPending && <Shape className="h-40" />}
      {found.isError && (
        <>
          <ErrorNote error={found.error} again={() => void found.refetch()} />
          <Button onClick={() => setPath(null)}>Back to the offered folders</Button>
        </>
      )}
      {view && (
        <>
          {view.path === null ? (
            <p className="text-sm text-quiet">
              {view.folders.length > 0
                ? "The folders that this machine offers. Open one to see what is in it."
                : "None of the offered folders is on this machine: type the path above."}
            </p>
          ) : (
            <p className="flex flex-wrap items-center gap-3">
              <Button onClick={() => setPath(view.parent ?? null)}>Up</Button>
              <code className="font-mono text-sm break-all">{view.path}</code>
            </p>
          )}
          <ul className="mt-3 flex max-h-44 flex-wrap gap-2 overflow-y-auto">
            {view.folders.map((one) => (
              <li key={one.path}>
                <button
                  type="button"
                  className="rounded-md border border-line px-3 py-1.5 font-mono text-sm break-all hover:bg-sunken"
                  onClick={() => setPath(one.path)}
                >
                  {one.name}
                </button>
              </li>
            ))}
          </ul>
          {view.path !== null && <Contents view={view} chosen={chosen === view.path} onChoose={onChoose} />}
        </>
      )}
    </section>
  );
}

function Contents({
  view,
  chosen,
  onChoose,
}: {
  view: FolderView;
  chosen: boolean;
  onChoose: (path: string) => void;
}) {
  return (
    <div className="mt-4 space-y-3" aria-live="polite">
      <p className="tabular-nums">
        {view.pictures === 0 && !view.more ? (
          "No pictures below this folder."
        ) : (
          <>
            {view.more && "At least "}
            {many(view.pictures, "picture file")} below it, {bytes(view.bytes)}.
          </>
        )}
      </p>
      {view.examples.length > 0 && (
        <ul className="grid grid-cols-3 gap-2 sm:grid-cols-6">
          {view.examples.map((path) => (
            <li key={path} title={path} className="aspect-[4/3] overflow-hidden rounded-[3px] bg-sunken">
              <img
                alt={path.slice(path.lastIndexOf("/") + 1)}
                loading="lazy"
                className="h-full w-full object-cover text-xs"
                src={examplePreview(path)}
              />
            </li>
          ))}
        </ul>
      )}
      {view.guess && <p className="text-sm text-quiet">{view.guess}</p>}
      {view.refusal ? (
        <Mind>It cannot be connected: {view.refusal}.</Mind>
      ) : (
        <Button look={chosen ? "plain" : "main"} disabled={chosen} onClick={() => onChoose(view.path ?? "")}>
          {chosen ? "Chosen" : "Choose this folder"}
        </Button>
      )}
    </div>
  );
}
