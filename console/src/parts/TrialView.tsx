/** A part of a picture, as it was and as settings make it: in crisp pixels, with what it weighs and scores. */

import { useState } from "react";
import type { Trial } from "../api/client";
import { useFormats } from "../api/queries";
import { bytes, points, saved } from "../look/words";
import { Shape } from "./ui";

const url = (format: string, data: string) => `data:image/${format};base64,${data}`;

export function TrialView({
  trial,
  busy,
  className = "h-48",
}: {
  trial: Trial | undefined;
  busy: boolean;
  className?: string;
}) {
  const { label } = useFormats();
  const [original, setOriginal] = useState(false);
  if (!trial) return <Shape className={className} />;
  const file = trial.outputs.find((output) => output.role === "file" && output.data !== null);
  const shown = original || !file?.data ? url(trial.format, trial.data) : url(file.format, file.data);
  return (
    <figure className="m-0">
      <button
        type="button"
        aria-pressed={original}
        aria-label="Hold to see the original"
        title="hold to see the original"
        onPointerDown={() => setOriginal(true)}
        onPointerUp={() => setOriginal(false)}
        onPointerLeave={() => setOriginal(false)}
        onKeyDown={(event) => event.key === " " && setOriginal(true)}
        onKeyUp={() => setOriginal(false)}
        className={`relative block w-full overflow-hidden rounded-[4px] bg-[#151216] ${className}`}
      >
        <img
          src={shown}
          alt={original ? "The part as it was" : "The part as it would be"}
          width={trial.width}
          height={trial.height}
          className="absolute left-1/2 top-1/2 max-w-none -translate-x-1/2 -translate-y-1/2"
        />
        {original && (
          <span className="absolute left-1.5 top-1.5 rounded bg-black/65 px-1.5 text-xs text-white">
            original
          </span>
        )}
      </button>
      <div aria-busy={busy} className={`transition-opacity ${busy ? "opacity-45" : ""}`}>
        <figcaption className="mt-1.5 flex flex-wrap justify-between gap-x-3 text-sm">
          {file ? (
            <>
              <span>
                <span className="font-semibold text-leaf">{saved(trial.size, file.size)}</span>{" "}
                <span className="text-quiet">
                  {bytes(trial.size)} to {bytes(file.size)}
                </span>
              </span>
              <span className="text-quiet">
                {file.score == null ? "pixel for pixel" : `score ${points(file.score)}`}
              </span>
            </>
          ) : (
            <span className="text-quiet">stays as it is: nothing smaller keeps the promise</span>
          )}
        </figcaption>
        <ul className="flex flex-wrap gap-x-3 text-xs text-quiet">
          {trial.outputs
            .filter((one) => one.role === "copy")
            .map((one) => (
              <li key={one.format} title={one.reason}>
                {label(one.format)} copy {one.data === null ? "none" : saved(trial.size, one.size)}
              </li>
            ))}
        </ul>
      </div>
    </figure>
  );
}
