import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ask, type CopyFormat } from "../api/client";
import { keys } from "../api/keys";
import { LEVELS, type LevelName } from "../look/words";
import { FolderChooser } from "../parts/FolderChooser";
import { LevelChoice } from "../parts/LevelChoice";
import { MetadataChoice, type MetadataKind } from "../parts/MetadataChoice";
import { Button, Card, ErrorNote, Field, INPUT, PageTitle } from "../parts/ui";

export function Connect() {
  const navigate = useNavigate();
  const cache = useQueryClient();
  const [name, setName] = useState("");
  const [root, setRoot] = useState("");
  const [level, setLevel] = useState<LevelName>("everyday");
  const [copies, setCopies] = useState<CopyFormat[]>(["webp", "avif"]);
  const [metadata, setMetadata] = useState<MetadataKind[]>(["rights"]);
  const connect = useMutation({
    mutationFn: async () => {
      const library = await ask(
        api.POST("/api/v1/libraries", { body: { name, root, level, copies, metadata } }),
      );
      await ask(api.POST("/api/v1/libraries/{slug}/surveys", { params: { path: { slug: library.slug } } }));
      return library;
    },
    onSuccess: async (library) => {
      await cache.invalidateQueries({ queryKey: keys.libraries });
      void navigate(`/l/${library.slug}`);
    },
  });
  return (
    <div className="mx-auto max-w-2xl">
      <PageTitle>Connect a library</PageTitle>
      <Card>
        <form
          className="space-y-5"
          onSubmit={(event) => {
            event.preventDefault();
            connect.mutate();
          }}
        >
          <Field label="Name" hint="As you and your client call it.">
            <input
              className={INPUT}
              required
              value={name}
              onChange={(event) => setName(event.target.value)}
            />
          </Field>
          <Field
            label="Folder"
            hint="Choose it below, or type its absolute path on the service’s machine. Everything below it belongs to the library."
          >
            <input
              className={`${INPUT} font-mono text-sm`}
              required
              placeholder="/var/www/site/uploads"
              value={root}
              onChange={(event) => setRoot(event.target.value)}
            />
          </Field>
          <FolderChooser chosen={root} onChoose={setRoot} />
          <LevelChoice level={level} onLevel={setLevel} copies={copies} onCopies={setCopies} />
          <fieldset>
            <legend className="mb-1 text-sm font-semibold">
              What treated files go on saying about themselves
            </legend>
            <MetadataChoice kept={metadata} onChange={setMetadata} />
            <p className="mt-1 text-xs text-quiet">
              What is not chosen is taken out of the files that are served. The backups keep everything.
            </p>
          </fieldset>
          {connect.isError && <ErrorNote error={connect.error} />}
          <p className="text-sm text-quiet">
            Connecting touches nothing. The folder is surveyed first; nothing changes until you start a run at
            the level {LEVELS[level].name}.
          </p>
          <Button type="submit" look="main" busy={connect.isPending}>
            Connect and survey
          </Button>
        </form>
      </Card>
    </div>
  );
}
