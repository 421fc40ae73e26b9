/** Every page of a library, once: its address, its name, where it stands, what it shows. Routes, tabs and palette read it. */

import { lazy, type ComponentType } from "react";
import type { Library } from "./api/client";
import { Keep } from "./pages/Keep";
import { Look } from "./pages/Look";
import { Review } from "./pages/Review";
import { Treat } from "./pages/Treat";

const PicturePage = lazy(() => import("./pages/PicturePage").then((page) => ({ default: page.PicturePage })));
const RecipePage = lazy(() => import("./pages/RecipePage").then((page) => ({ default: page.RecipePage })));
const UpkeepPage = lazy(() => import("./pages/UpkeepPage").then((page) => ({ default: page.UpkeepPage })));
const ServePage = lazy(() => import("./pages/ServePage").then((page) => ({ default: page.ServePage })));
const WaysPage = lazy(() => import("./pages/WaysPage").then((page) => ({ default: page.WaysPage })));
const MarkupPage = lazy(() => import("./pages/MarkupPage").then((page) => ({ default: page.MarkupPage })));
const RunPage = lazy(() => import("./pages/RunPage").then((page) => ({ default: page.RunPage })));

export interface Page {
  /** Behind the library's address; a part that begins with a colon is a number. */
  path: string;
  /** What the tab is called; none: reached from other pages only. */
  name?: string;
  /** What it is called beside those under its heading, where that is another word. */
  tab?: string;
  hint: string;
  shows: ComponentType<{ library: Library }>;
  /** The pages that stand beside it under one heading. */
  under?: string;
}

export const PAGES: Page[] = [
  { path: "", name: "Look", hint: "what is there", shows: Look },
  { path: "treat", name: "Treat", hint: "start a run", shows: Treat, under: "Treat", tab: "Runs" },
  { path: "treat/recipe", name: "Recipe", hint: "how pictures are treated", shows: RecipePage, under: "Treat" },
  { path: "treat/upkeep", name: "Upkeep", hint: "what happens by itself", shows: UpkeepPage, under: "Treat" },
  { path: "treat/:run", hint: "one run", shows: RunPage },
  { path: "review", name: "Review", hint: "the pictures", shows: Review },
  { path: "review/:picture", hint: "one picture", shows: PicturePage },
  { path: "serve", name: "Serve", hint: "what visitors get", shows: ServePage, under: "Serve", tab: "Visitors" },
  { path: "serve/ways", name: "Ways", hint: "how files get to visitors", shows: WaysPage, under: "Serve" },
  { path: "serve/pages", name: "Pages", hint: "what the site's pages say", shows: MarkupPage, under: "Serve" },
  { path: "keep", name: "Keep", hint: "backups and restoring", shows: Keep },
];

export const addressOf = (slug: string, path: string) => (path ? `/l/${slug}/${path}` : `/l/${slug}`);

/** The tabs of the work: pages with a name of their own, of those under one heading the first. */
export const WORK = PAGES.filter((page, index) => page.name && (!page.under || PAGES.findIndex((other) => other.under === page.under) === index));

/** The pages under one heading, in their order. */
export const under = (heading: string) => PAGES.filter((page) => page.under === heading);
