/** Who is here, which library, which page. */

import { lazy, Suspense } from "react";
import { Navigate, Route, Routes, useParams } from "react-router";
import { Problem } from "./api/client";
import { useLive } from "./api/live";
import { useLibraries, usePerson } from "./api/queries";
import { Frame } from "./parts/Frame";
import { ErrorNote, Shape } from "./parts/ui";
import { Connect } from "./pages/Connect";
import { SignIn } from "./pages/SignIn";
import { PAGES } from "./pages";
import { Tabs } from "./parts/Tabs";

const MachinePage = lazy(() => import("./pages/MachinePage").then((page) => ({ default: page.MachinePage })));

export function App() {
  const person = usePerson();
  useLive(Boolean(person.data));
  if (person.isPending) return <Waiting />;
  if (person.isError) {
    return (
      <main className="mx-auto mt-24 max-w-lg p-4">
        <ErrorNote error={person.error} again={() => void person.refetch()} />
      </main>
    );
  }
  if (!person.data) return <SignIn />;
  return (
    <Routes>
      <Route path="/connect" element={<Frame person={person.data}><Connect /></Frame>} />
      <Route path="/machine" element={<Frame person={person.data}><Suspense fallback={<Shape className="h-96" />}><MachinePage /></Suspense></Frame>} />
      <Route path="/l/:slug/*" element={<InLibrary />} />
      <Route path="*" element={<Home />} />
    </Routes>
  );
}

function Waiting() {
  return (
    <main className="mx-auto mt-24 max-w-lg space-y-3 p-4" aria-busy="true" aria-label="Loading">
      <Shape className="h-10" />
      <Shape className="h-40" />
    </main>
  );
}

function Home() {
  const libraries = useLibraries();
  if (libraries.isPending) return <Waiting />;
  if (libraries.isError) {
    return (
      <main className="mx-auto mt-24 max-w-lg p-4">
        <ErrorNote error={libraries.error} again={() => void libraries.refetch()} />
      </main>
    );
  }
  const first = libraries.data.find((one) => one.slug === localStorage.getItem("plumcrate-library")) ?? libraries.data[0];
  return <Navigate replace to={first ? `/l/${first.slug}` : "/connect"} />;
}

function InLibrary() {
  const { slug = "" } = useParams();
  const person = usePerson();
  const libraries = useLibraries();
  if (!person.data || libraries.isPending) return <Waiting />;
  const library = libraries.data?.find((one) => one.slug === slug);
  if (!library) {
    return (
      <Frame person={person.data}>
        <ErrorNote
          error={libraries.error ?? new Problem("There is no such library", `nothing is connected as ${slug}`, 404, "not-found")}
          again={() => void libraries.refetch()}
        />
      </Frame>
    );
  }
  return (
    <Frame person={person.data} library={library}>
      <Suspense fallback={<Shape className="h-96" />}>
      <Routes>
        {PAGES.map(({ path, under, shows: Shown }) => (
          <Route key={path} path={path} element={<>{under && <Tabs library={library} under={under} />}<Shown key={slug} library={library} /></>} />
        ))}
        <Route path="*" element={<Navigate replace to={`/l/${slug}`} />} />
      </Routes>
      </Suspense>
    </Frame>
  );
}
