/** Pictures from one's own machine into the library; what became of each. */

import { useId, useState } from "react";
import type { Library } from "../api/client";
import { useMay } from "../api/people";
import { useUploads, type Upload } from "../api/uploads";
import { bytes } from "../look/words";
import { Slat } from "./Slat";
import { Button, Field, INPUT, Sheet, Tag } from "./ui";

export function UploadSheet({
  library,
  folder: first,
  onClose,
}: {
  library: Library;
  folder: string;
  onClose: () => void;
}) {
  const [folder, setFolder] = useState(first);
  const [over, setOver] = useState(false);
  const { uploads, add, again } = useUploads(library.slug);
  const mayReplace = useMay(library.slug)("mend");
  const chooser = useId();
  const going = uploads.some((one) => one.state === "waiting" || one.state === "sending");
  return (
    <Sheet open onClose={onClose} title="Upload pictures">
      <div className="space-y-4">
        <Field
          label="Into the folder"
          hint="Empty: where the library begins. A folder that is not there is made."
        >
          <input
            className={`${INPUT} font-mono text-sm`}
            value={folder}
            placeholder="2026/12"
            onChange={(event) => setFolder(event.target.value)}
          />
        </Field>
        <label
          htmlFor={chooser}
          className={`block cursor-pointer rounded-[5px] border-2 border-dashed px-4 py-7 text-center text-sm focus-within:border-plum hover:border-plum ${over ? "border-plum bg-plum-soft" : "border-line"}`}
          onDragOver={(event) => {
            event.preventDefault();
            setOver(true);
          }}
          onDragLeave={() => setOver(false)}
          onDrop={(event) => {
            event.preventDefault();
            setOver(false);
            add([...event.dataTransfer.files], folder);
          }}
        >
          <span className="font-semibold text-plum">Choose pictures</span> or drop them here
          <input
            id={chooser}
            type="file"
            multiple
            className="sr-only"
            onChange={(event) => {
              add([...(event.target.files ?? [])], folder);
              event.target.value = "";
            }}
          />
        </label>
        {uploads.length > 0 && (
          <ul aria-label="Uploads" aria-live="polite" className="divide-y divide-line">
            {uploads.map((upload) => (
              <Line
                key={upload.path}
                upload={upload}
                mayReplace={mayReplace}
                onAgain={(replaces) => again(upload.path, replaces)}
              />
            ))}
          </ul>
        )}
        {going && <p className="text-xs text-quiet">Closing this ends what was not sent yet.</p>}
      </div>
    </Sheet>
  );
}

function Line({
  upload,
  mayReplace,
  onAgain,
}: {
  upload: Upload;
  mayReplace: boolean;
  onAgain: (replaces: boolean) => void;
}) {
  const { path, file, state, made, said } = upload;
  return (
    <li className="space-y-1 py-2.5 text-sm">
      <div className="flex items-baseline justify-between gap-3">
        <span className="break-all font-mono text-xs">{path}</span>
        {state === "waiting" && <span className="text-quiet">{bytes(file.size)}</span>}
        {state === "sending" && <span className="text-quiet">being sent and made light …</span>}
        {state === "there" && (
          <Tag state={made?.state === "failed" ? "failed" : "lighter"}>{WORDS[made?.state ?? "waiting"]}</Tag>
        )}
        {state === "taken" && <Tag state="paused">name taken</Tag>}
        {state === "refused" && <Tag state="failed">refused</Tag>}
      </div>
      {made && state === "there" && (
        <>
          <Slat before={made.size_before} now={made.size_now} />
          <p className="text-xs text-quiet">
            {made.reason ?? `${bytes(made.size_before)} became ${bytes(made.size_now)}.`}
          </p>
        </>
      )}
      {state === "taken" && (
        <div className="flex flex-wrap items-center justify-between gap-2">
          <span className="text-xs text-quiet">
            Another file has this name.{mayReplace && " If you replace it, it is backed up first."}
          </span>
          {mayReplace && <Button onClick={() => onAgain(true)}>Replace it</Button>}
        </div>
      )}
      {state === "refused" && (
        <div className="flex flex-wrap items-center justify-between gap-2">
          <span className="text-xs text-clay">{said}</span>
          <Button onClick={() => onAgain(upload.replaces)}>Try again</Button>
        </div>
      )}
    </li>
  );
}

const WORDS: Record<NonNullable<Upload["made"]>["state"], string> = {
  light: "light",
  done: "light",
  waiting: "in; made light soon",
  failed: "in; could not be treated",
  "not-treated": "in the library",
};
