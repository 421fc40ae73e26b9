/** Who is here, which library, which page. */

import { lazy, Suspense } from "react";
import { Navigate, NavLink, Route, Routes, useLocation, useParams } from "react-router";
import { kept } from "./look/kept";
import { Problem } from "./api/client";
import { useLive } from "./api/live";
import { useLibraries, usePerson } from "./api/queries";
import { useTitle } from "./look/title";
import { Boundary } from "./parts/Boundary";
import { Frame } from "./parts/Frame";
import { Empty, ErrorNote, Shape } from "./parts/ui";
import { PAGES, SERVICE } from "./pages";
import { Tabs } from "./parts/Tabs";

const Connect = lazy(() => import("./pages/Connect").then((page) => ({ default: page.Connect })));
const SignIn = lazy(() => import("./pages/SignIn").then((page) => ({ default: page.SignIn })));
const AccountPage = lazy(() => import("./pages/AccountPage").then((page) => ({ default: page.AccountPage })));
const JoinPage = lazy(() => import("./pages/JoinPage").then((page) => ({ default: page.JoinPage })));

export function App() {
  const person = usePerson();
  const joining = useLocation().pathname === "/join";
  const away = useLive(Boolean(person.data));
  if (person.isPending) return <Waiting />;
  if (person.isError) {
    return (
      <main className="mx-auto mt-24 max-w-lg p-4">
        <ErrorNote error={person.error} again={() => void person.refetch()} />
      </main>
    );
  }
  if (joining)
    return (
      <Suspense fallback={<Waiting />}>
        <JoinPage />
      </Suspense>
    );
  if (!person.data)
    return (
      <Suspense fallback={<Waiting />}>
        <SignIn />
      </Suspense>
    );
  return (
    <>
      {away && <Away />}
      <Routes>
        <Route
          path="/connect"
          element={
            <Frame person={person.data}>
              <Title name="Connect a library" library="The service" />
              <Suspense fallback={<Shape className="h-96" />}>
                <Connect />
              </Suspense>
            </Frame>
          }
        />
        <Route
          path="/me"
          element={
            <Frame person={person.data}>
              <Suspense fallback={<Shape className="h-96" />}>
                <Title name="My account" library={person.data.name} />
                <AccountPage person={person.data} />
              </Suspense>
            </Frame>
          }
        />
        <Route path="/machine" element={<Navigate replace to="/service/machine" />} />
        {SERVICE.map(({ path, name, shows: Shown }) => (
          <Route
            key={path}
            path={`/service/${path}`}
            element={
              <Frame person={person.data!}>
                <ServiceTabs />
                <Boundary key={path}>
                  <Title name={name} library="The service" />
                  <Suspense fallback={<Shape className="h-96" />}>
                    <Shown />
                  </Suspense>
                </Boundary>
              </Frame>
            }
          />
        ))}
        <Route path="/l/:slug/*" element={<InLibrary />} />
        <Route path="*" element={<Home />} />
      </Routes>
    </>
  );
}

function Away() {
  return (
    <p role="status" className="bg-clay-soft px-4 py-1.5 text-center text-sm text-clay">
      The service does not answer just now. What you see may be old; it goes on by itself when the service is
      back.
    </p>
  );
}

function Title({ name, library }: { name: string | undefined; library: string }) {
  useTitle(name, library);
  return null;
}

function ServiceTabs() {
  return (
    <nav aria-label="The service" className="mb-5 flex max-w-full gap-1 overflow-x-auto border-b border-line">
      {SERVICE.map(({ path, name }) => (
        <NavLink
          key={path}
          to={`/service/${path}`}
          className={({ isActive }) =>
            `-mb-px whitespace-nowrap border-b-2 px-3 py-1.5 text-sm font-semibold ${isActive ? "border-plum text-plum" : "border-transparent text-quiet hover:text-plum"}`
          }
        >
          {name}
        </NavLink>
      ))}
    </nav>
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
  const person = usePerson().data;
  if (libraries.isPending) return <Waiting />;
  if (libraries.isError) {
    return (
      <main className="mx-auto mt-24 max-w-lg p-4">
        <ErrorNote error={libraries.error} again={() => void libraries.refetch()} />
      </main>
    );
  }
  const first = libraries.data.find((one) => one.slug === kept("library")) ?? libraries.data[0];
  if (!first && !person?.service) {
    return (
      <Frame person={person!}>
        <Empty title="Nothing to see yet">
          You have an account, but no library is open to you. Ask who invited you.
        </Empty>
      </Frame>
    );
  }
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
          error={
            libraries.error ??
            new Problem("There is no such library", `nothing is connected as ${slug}`, 404, "not-found")
          }
          again={() => void libraries.refetch()}
        />
      </Frame>
    );
  }
  return (
    <Frame person={person.data} library={library}>
      <Suspense fallback={<Shape className="h-96" />}>
        <Routes>
          {PAGES.map(({ path, name, tab, under, shows: Shown }) => (
            <Route
              key={path}
              path={path}
              element={
                <Boundary key={`${slug}/${path}`}>
                  <Title name={tab ?? name} library={library.name} />
                  {under && <Tabs library={library} under={under} />}
                  <Shown key={slug} library={library} />
                </Boundary>
              }
            />
          ))}
          <Route path="*" element={<Navigate replace to={`/l/${slug}`} />} />
        </Routes>
      </Suspense>
    </Frame>
  );
}
