/** What one picture says, in every language, and where pages show it. */

import { Link } from "react-router";
import type { Library, Picture } from "../api/client";
import { usePictureDescriptions, type Description } from "../api/descriptions";
import { Card, ErrorNote, Shape } from "./ui";

export function SaysCard({ library, picture }: { library: Library; picture: Picture }) {
  const described = usePictureDescriptions(picture.id);
  const uses = described.data?.[0]?.uses ?? [];
  const write = `/l/${library.slug}/review/descriptions?search=${encodeURIComponent(picture.path)}`;
  return (
    <Card
      title="What it says"
      aside={
        <Link to={write} className="text-plum hover:underline">
          Describe
        </Link>
      }
    >
      {described.isError && <ErrorNote error={described.error} again={() => void described.refetch()} />}
      {described.isPending && <Shape className="h-12" />}
      <ul className="space-y-1.5 text-sm">
        {described.data?.map((one) => (
          <li key={one.language}>
            {described.data.length > 1 && <span className="mr-2 text-xs text-quiet">{one.language}</span>}
            <Says one={one} />
          </li>
        ))}
      </ul>
      {uses.length > 0 && (
        <ul className="mt-3 border-t border-line pt-2 text-sm">
          {uses.map((use) => (
            <li key={`${use.page_id}${use.alternative}`} className="flex justify-between gap-3">
              <Link to={`/l/${library.slug}/weights/${use.page_id}`} className="min-w-0 truncate">
                {use.address}
              </Link>
              <span className={`shrink-0 ${use.alternative === null ? "text-clay" : "text-quiet"}`}>
                {use.alternative === null
                  ? "no alt"
                  : use.alternative === ""
                    ? "decorative"
                    : "says something"}
              </span>
            </li>
          ))}
        </ul>
      )}
    </Card>
  );
}

function Says({ one }: { one: Description }) {
  if (one.decorative) return <span className="text-quiet">Decorative: it is passed over.</span>;
  if (!one.alternative) return <span className="text-clay">It says nothing yet.</span>;
  return <span>“{one.alternative}”</span>;
}
