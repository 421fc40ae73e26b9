/** Backups whose file was deleted, moved away or overwritten: saved, or put back under a name. */

import { useState } from "react";
import type { Library, Orphan } from "../api/client";
import { useOrphans, useRescue } from "../api/queries";
import { bytes, many, when } from "../look/words";
import { Button, Card, ErrorNote, Field, INPUT, Shape, Sheet } from "./ui";

export function Orphans({ library }: { library: Library }) {
  const [chosen, setChosen] = useState<Orphan | null>(null);
  const found = useOrphans(library.slug);
  const total = found.data?.pages[0]?.total ?? 0;
  return (
    <Card title="Originals that lost their file">
      {found.isPending && <Shape className="h-24" />}
      {found.isError && <ErrorNote error={found.error} again={() => void found.refetch()} />}
      {found.data && total === 0 && (
        <p className="text-quiet">
          None. When somebody deletes or overwrites a treated picture, its original is kept and listed here.
        </p>
      )}
      {found.data && total > 0 && (
        <>
          <p>
            {many(total, "original")} of treated pictures that somebody deleted, moved away or overwrote. They
            stay until they are put back or deleted.
          </p>
          <ul className="mt-3 divide-y divide-line">
            {found.data.pages
              .flatMap((page) => page.rows)
              .map((one) => (
                <li key={one.id} className="flex flex-wrap items-center gap-x-3 gap-y-1 py-2">
                  <span className="min-w-0 flex-1 basis-full sm:basis-48">
                    <span className="block break-all font-mono text-xs">{one.path}</span>
                    <span className="text-sm text-quiet tabular-nums">
                      {bytes(one.size)}, backed up {when(one.created_at)}
                    </span>
                  </span>
                  <a
                    className="text-sm text-plum underline"
                    download
                    href={`/api/v1/libraries/${library.slug}/orphans/${one.id}/content`}
                  >
                    Save
                  </a>
                  <Button onClick={() => setChosen(one)}>Put back …</Button>
                </li>
              ))}
          </ul>
          {found.hasNextPage && (
            <Button busy={found.isFetchingNextPage} onClick={() => void found.fetchNextPage()}>
              Show more
            </Button>
          )}
        </>
      )}
      {chosen && <PutBackSheet library={library} orphan={chosen} onClose={() => setChosen(null)} />}
    </Card>
  );
}

function PutBackSheet({
  library,
  orphan,
  onClose,
}: {
  library: Library;
  orphan: Orphan;
  onClose: () => void;
}) {
  const rescue = useRescue(library.slug);
  const [path, setPath] = useState(orphan.path);
  return (
    <Sheet open onClose={onClose} title="Put an original back">
      <form
        className="space-y-4"
        onSubmit={(event) => {
          event.preventDefault();
          rescue.mutate({ id: orphan.id, path }, { onSuccess: onClose });
        }}
      >
        <p>
          {bytes(orphan.size)}, exactly as it first was. Nothing that is there is overwritten, and it is not
          treated until a run takes it in.
        </p>
        <Field label="Its path in the library">
          <input className={INPUT} value={path} onChange={(event) => setPath(event.target.value)} />
        </Field>
        {rescue.isError && <ErrorNote error={rescue.error} />}
        <Button look="main" type="submit" busy={rescue.isPending} disabled={!path.trim()}>
          Put it back
        </Button>
      </form>
    </Sheet>
  );
}
