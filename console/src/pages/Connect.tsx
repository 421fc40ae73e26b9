import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, ask } from "../api/client";
import { LEVELS, type LevelName } from "../look/words";
import { LevelChoice } from "../parts/LevelChoice";
import { Button, Card, ErrorNote, Field, INPUT, PageTitle } from "../parts/ui";

export function Connect() {
  const navigate = useNavigate();
  const cache = useQueryClient();
  const [name, setName] = useState("");
  const [root, setRoot] = useState("");
  const [level, setLevel] = useState<LevelName>("everyday");
  const [webp, setWebp] = useState(true);
  const [avif, setAvif] = useState(true);
  const connect = useMutation({
    mutationFn: async () => {
      const library = await ask(api.POST("/api/v1/libraries", { body: { name, root, level, webp, avif } }));
      await ask(api.POST("/api/v1/libraries/{slug}/surveys", { params: { path: { slug: library.slug } } }));
      return library;
    },
    onSuccess: async (library) => {
      await cache.invalidateQueries({ queryKey: ["libraries"] });
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
            <input className={INPUT} required value={name} onChange={(event) => setName(event.target.value)} />
          </Field>
          <Field label="Folder" hint="The absolute path on the service’s machine. Everything below it belongs to the library.">
            <input className={`${INPUT} font-mono text-sm`} required placeholder="/var/www/site/uploads" value={root} onChange={(event) => setRoot(event.target.value)} />
          </Field>
          <LevelChoice level={level} onLevel={setLevel} webp={webp} onWebp={setWebp} avif={avif} onAvif={setAvif} />
          {connect.isError && <ErrorNote error={connect.error} />}
          <p className="text-sm text-quiet">
            Connecting touches nothing. The folder is surveyed first; nothing changes until you start a run at the level
            {" "}{LEVELS[level].name}.
          </p>
          <Button type="submit" look="main" busy={connect.isPending}>
            Connect and survey
          </Button>
        </form>
      </Card>
    </div>
  );
}
