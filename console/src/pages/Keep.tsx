/** What is kept safe: backups, and putting everything back. */

import { useState } from "react";
import { useNavigate } from "react-router";
import type { Library } from "../api/client";
import { useStartRun } from "../api/queries";
import { bytes, many } from "../look/words";
import { Button, Card, Confirm, Figure, PageTitle } from "../parts/ui";

export function Keep({ library }: { library: Library }) {
  const navigate = useNavigate();
  const start = useStartRun();
  const [asking, setAsking] = useState(false);
  const restore = () =>
    start.mutate(
      { library: library.slug, kind: "restore", scope: {}, force: false },
      { onSuccess: (run) => void navigate(`/l/${library.slug}/treat/${run.id}`) },
    );
  return (
    <>
      <PageTitle>Keep</PageTitle>
      <div className="grid gap-5 lg:grid-cols-2">
        <Card title="Backups">
          <Figure value={bytes(library.bytes_backups)} caption="held on the service’s disk, outside the library" />
          <p className="mt-4">
            Before a file is replaced, its bytes are written to the backup store under their SHA-256 hash and made durable.
            The same bytes are stored once, however many files hold them. When a picture is treated again, it is made from
            the backup, never from an earlier result.
          </p>
        </Card>
        <Card title="Put everything back">
          <p>
            Every file that was made lighter gets exactly the bytes it had, and all {many(library.copies, "WebP and AVIF copy", "WebP and AVIF copies")} of ours are
            removed. A file that somebody else has changed since is left as it is, and listed.
          </p>
          <Button look="danger" className="mt-4" disabled={library.files_treated === 0} onClick={() => setAsking(true)}>
            Put everything back …
          </Button>
          {library.files_treated === 0 && <p className="mt-2 text-sm text-quiet">Nothing has been treated, so there is nothing to put back.</p>}
        </Card>
      </div>
      <Confirm open={asking} onClose={() => setAsking(false)} title="Put everything back" word={library.slug} action="Put everything back" busy={start.isPending} error={start.error} onConfirm={restore}>
        <p>
          {many(library.pictures, "picture")} in {many(library.files, "file")} go back to {bytes(library.bytes_before)};{" "}
          {many(library.copies, "copy", "copies")} are removed. The saving of {bytes(library.bytes_before - library.bytes_now)} is lost.
        </p>
        <p className="text-sm text-quiet">This can be undone by a new run, which takes its time.</p>
      </Confirm>
    </>
  );
}
