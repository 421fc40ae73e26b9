/** What files go on saying about themselves, by kind. */

import type { RecipeSettings } from "../api/client";
import { Tick } from "./ui";

export type MetadataKind = RecipeSettings["metadata"][number];

const KINDS: Record<MetadataKind, [string, string]> = {
  rights: ["Rights and credit", "who made it, who may use it"],
  time: ["Time", "when it was taken"],
  place: ["Place", "where; may be a home address"],
  camera: ["Camera", "with what and how"],
  rest: ["Everything else", "titles, keywords, comments, editing history"],
};
const NAMES = Object.keys(KINDS) as MetadataKind[];

export function MetadataChoice({
  kept,
  onChange,
}: {
  kept: MetadataKind[];
  onChange: (kept: MetadataKind[]) => void;
}) {
  return (
    <div className="grid gap-3 sm:grid-cols-2">
      {NAMES.map((kind) => (
        <Tick
          key={kind}
          label={KINDS[kind][0]}
          hint={KINDS[kind][1]}
          on={kept.includes(kind)}
          onChange={(on) => onChange(NAMES.filter((other) => (other === kind ? on : kept.includes(other))))}
        />
      ))}
    </div>
  );
}
