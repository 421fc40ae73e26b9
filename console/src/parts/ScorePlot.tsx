/** What each version of a file weighs, against how near it is to the original: a plot, with a table for those who do not see it. */

import { bytes, points } from "../look/words";
import type { Version } from "./Comparison";

const WIDTH = 288;
const HEIGHT = 132;
const LEFT = 30;
const BELOW = 20;

export function ScorePlot({
  versions,
  chosen,
  onChoose,
}: {
  versions: Version[];
  chosen: string;
  onChoose: (key: string) => void;
}) {
  const dots = versions.map((version) => ({ ...version, points: version.score ?? 100 }));
  const heaviest = Math.max(...dots.map((dot) => dot.size), 1);
  const lowest = Math.min(70, ...dots.map((dot) => Math.floor(dot.points / 10) * 10));
  const x = (size: number) => LEFT + 6 + ((WIDTH - LEFT - 46) * size) / heaviest;
  const y = (score: number) => 10 + ((HEIGHT - BELOW - 18) * (100 - score)) / (100 - lowest);
  const steps = [100, (100 + lowest) / 2, lowest];
  return (
    <figure className="m-0 max-w-72">
      <figcaption className="text-xs text-quiet">Score, and weight to its right</figcaption>
      <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} className="w-full" aria-hidden>
        {steps.map((step) => (
          <g key={step}>
            <line x1={LEFT} x2={WIDTH} y1={y(step)} y2={y(step)} stroke="var(--line)" />
            <text x={LEFT - 5} y={y(step) + 4} textAnchor="end" fontSize="10" fill="var(--quiet)">
              {step.toFixed(0)}
            </text>
          </g>
        ))}
        {dots.map((dot) => (
          <g key={dot.key} className="cursor-pointer" onClick={() => onChoose(dot.key)}>
            <circle
              cx={x(dot.size)}
              cy={y(dot.points)}
              r={dot.key === chosen ? 6 : 4.5}
              fill={dot.key === chosen ? "var(--plum)" : "var(--surface)"}
              stroke="var(--plum)"
              strokeWidth="1.5"
            />
            <text
              x={x(dot.size)}
              y={y(dot.points) + (dot.key === "before" ? 18 : -9)}
              textAnchor={dot.size > heaviest / 2 ? "end" : "start"}
              fontSize="10"
              fill="var(--ink)"
            >
              {dot.name}
            </text>
          </g>
        ))}
        <text x={WIDTH - 40} y={HEIGHT - 4} textAnchor="end" fontSize="10" fill="var(--quiet)">
          {bytes(heaviest)}
        </text>
        <text x={LEFT + 6} y={HEIGHT - 4} fontSize="10" fill="var(--quiet)">
          0
        </text>
      </svg>
      <table className="sr-only">
        <caption>Score and weight of each version</caption>
        <tbody>
          {dots.map((dot) => (
            <tr key={dot.key}>
              <th scope="row">{dot.name}</th>
              <td>{points(dot.points)}</td>
              <td>{bytes(dot.size)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </figure>
  );
}
