/** How near the files are to their originals, with what was promised drawn in. */

import { Link } from "react-router";
import type { Savings } from "../api/client";
import { count, LEVELS, many } from "../look/words";
import { Card } from "./ui";

type Scores = Savings["scores"][number];

export function ScoresCard({ scores, slug }: { scores: Savings["scores"]; slug: string }) {
  if (scores.length === 0) return null;
  return (
    <Card
      title="Scores"
      aside={
        <Link to={`/l/${slug}/review?sort=worst`} className="font-semibold text-plum hover:underline">
          worst places
        </Link>
      }
    >
      <div className="space-y-4">
        {scores.map((one) => (
          <OfLevel key={one.level} of={one} />
        ))}
      </div>
    </Card>
  );
}

function OfLevel({ of }: { of: Scores }) {
  const aim = of.aim ?? 0;
  const from = Math.min(Math.floor(aim) - 5, ...of.bins.map((bin) => bin.score));
  const to = 100;
  const most = Math.max(...of.bins.map((bin) => bin.files), 1);
  const files = of.bins.reduce((sum, bin) => sum + bin.files, 0);
  const x = (score: number) => `${(100 * (score - from)) / (to - from)}%`;
  return (
    <figure className="m-0">
      <figcaption className="mb-1 text-sm">
        <span className="font-semibold">{LEVELS[of.level].name}</span>{" "}
        <span className="text-quiet">{many(files, "file")}</span>
      </figcaption>
      <div aria-hidden className="relative h-24 border-b border-line">
        {of.bins.map((bin) => (
          <span
            key={bin.score}
            title={`${bin.score} to ${bin.score + 1}: ${many(bin.files, "file")}`}
            className="absolute bottom-0 rounded-t-[2px] bg-leaf"
            style={{
              left: x(bin.score),
              width: `calc(${100 / (to - from)}% - 1px)`,
              height: `${Math.max(2, (84 * bin.files) / most)}%`,
            }}
          />
        ))}
        <span className="absolute inset-y-0 border-l-2 border-dashed border-plum" style={{ left: x(aim) }} />
        <span className="absolute -top-1 whitespace-nowrap pl-1.5 text-xs text-plum" style={{ left: x(aim) }}>
          aim {aim}
        </span>
      </div>
      <div aria-hidden className="flex justify-between text-xs text-quiet">
        <span>{from}</span>
        <span>{to}, as the original</span>
      </div>
      <table className="sr-only">
        <caption>
          Files by score at the level {LEVELS[of.level].name}, which aims at {aim}
        </caption>
        <tbody>
          {of.bins.map((bin) => (
            <tr key={bin.score}>
              <th scope="row">
                {bin.score} to {bin.score + 1}
              </th>
              <td>{count(bin.files)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </figure>
  );
}
