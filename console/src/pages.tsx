/** Every page of a library, once: its address, its name, where it stands, what it shows. Routes, tabs and palette read it. */

import { lazy, type ComponentType } from "react";
import type { Library } from "./api/client";
import type { Ability } from "./api/people";
import { Look } from "./pages/Look";

const Keep = lazy(() => import("./pages/Keep").then((page) => ({ default: page.Keep })));
const Review = lazy(() => import("./pages/Review").then((page) => ({ default: page.Review })));
const DescriptionsPage = lazy(() =>
  import("./pages/DescriptionsPage").then((page) => ({ default: page.DescriptionsPage })),
);
const NearDuplicatesPage = lazy(() =>
  import("./pages/NearDuplicatesPage").then((page) => ({ default: page.NearDuplicatesPage })),
);
const Treat = lazy(() => import("./pages/Treat").then((page) => ({ default: page.Treat })));
const PicturePage = lazy(() => import("./pages/PicturePage").then((page) => ({ default: page.PicturePage })));
const RecipePage = lazy(() => import("./pages/RecipePage").then((page) => ({ default: page.RecipePage })));
const SizesPage = lazy(() => import("./pages/SizesPage").then((page) => ({ default: page.SizesPage })));
const WatermarksPage = lazy(() =>
  import("./pages/WatermarksPage").then((page) => ({ default: page.WatermarksPage })),
);
const TouchPage = lazy(() => import("./pages/TouchPage").then((page) => ({ default: page.TouchPage })));
const AutomationPage = lazy(() =>
  import("./pages/AutomationPage").then((page) => ({ default: page.AutomationPage })),
);
const ServePage = lazy(() => import("./pages/ServePage").then((page) => ({ default: page.ServePage })));
const WaysPage = lazy(() => import("./pages/WaysPage").then((page) => ({ default: page.WaysPage })));
const MarkupPage = lazy(() => import("./pages/MarkupPage").then((page) => ({ default: page.MarkupPage })));
const WeightsPage = lazy(() => import("./pages/WeightsPage").then((page) => ({ default: page.WeightsPage })));
const SitePagePage = lazy(() =>
  import("./pages/SitePagePage").then((page) => ({ default: page.SitePagePage })),
);
const LibraryPeoplePage = lazy(() =>
  import("./pages/PeoplePage").then((page) => ({ default: page.LibraryPeoplePage })),
);
const LibraryKeysPage = lazy(() =>
  import("./pages/KeysPage").then((page) => ({ default: page.LibraryKeysPage })),
);
const LibraryAuditPage = lazy(() =>
  import("./pages/AuditPage").then((page) => ({ default: page.LibraryAuditPage })),
);
const AllowancePage = lazy(() =>
  import("./pages/AllowancePage").then((page) => ({ default: page.AllowancePage })),
);
const ReportPage = lazy(() => import("./pages/ReportPage").then((page) => ({ default: page.ReportPage })));
const WebhooksPage = lazy(() =>
  import("./pages/WebhooksPage").then((page) => ({ default: page.WebhooksPage })),
);
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
  /** What who looks at it must be allowed to do in the library; nothing: to look. */
  needs?: Ability;
}

export const PAGES: Page[] = [
  { path: "", name: "Look", hint: "what is there", shows: Look, under: "Look", tab: "Library" },
  {
    path: "weights",
    name: "Page weights",
    hint: "what the site's pages weigh",
    shows: WeightsPage,
    under: "Look",
  },
  { path: "weights/:page", hint: "one page of the site", shows: SitePagePage },
  {
    path: "report",
    name: "Report",
    hint: "what was saved, for the client",
    shows: ReportPage,
    under: "Look",
  },
  {
    path: "treat",
    name: "Treat",
    hint: "start a run",
    shows: Treat,
    under: "Treat",
    tab: "Runs",
    needs: "treat",
  },
  {
    path: "treat/recipe",
    name: "Recipe",
    hint: "how pictures are treated",
    shows: RecipePage,
    under: "Treat",
    needs: "treat",
  },
  {
    path: "treat/sizes",
    name: "Sizes",
    hint: "files made for their places on pages",
    shows: SizesPage,
    under: "Treat",
    needs: "treat",
  },
  {
    path: "treat/watermarks",
    name: "Watermarks",
    hint: "what is laid over served pictures",
    shows: WatermarksPage,
    under: "Treat",
    needs: "treat",
  },
  {
    path: "treat/automation",
    name: "Automation",
    hint: "what happens by itself",
    shows: AutomationPage,
    under: "Treat",
    needs: "treat",
  },
  {
    path: "treat/allowance",
    name: "Allowance",
    hint: "what may be treated in a month",
    shows: AllowancePage,
    under: "Treat",
    needs: "treat",
  },
  { path: "treat/:run", hint: "one run", shows: RunPage },
  {
    path: "review",
    name: "Review",
    hint: "the pictures",
    shows: Review,
    under: "Review",
    tab: "Pictures",
  },
  {
    path: "review/descriptions",
    name: "Descriptions",
    hint: "what pictures say to those who do not see them",
    shows: DescriptionsPage,
    under: "Review",
  },
  {
    path: "review/near-duplicates",
    name: "Near duplicates",
    hint: "pictures that show the same",
    shows: NearDuplicatesPage,
    under: "Review",
  },
  { path: "review/:picture", hint: "one picture", shows: PicturePage },
  { path: "review/:picture/touch", hint: "touching one picture up", shows: TouchPage, needs: "mend" },
  {
    path: "serve",
    name: "Serve",
    hint: "what visitors get",
    shows: ServePage,
    under: "Serve",
    tab: "Visitors",
    needs: "treat",
  },
  {
    path: "serve/ways",
    name: "Ways",
    hint: "how files get to visitors",
    shows: WaysPage,
    under: "Serve",
    needs: "treat",
  },
  {
    path: "serve/pages",
    name: "Pages",
    hint: "what the site's pages say",
    shows: MarkupPage,
    under: "Serve",
    needs: "treat",
  },
  {
    path: "keep",
    name: "Keep",
    hint: "backups and restoring",
    shows: Keep,
    under: "Keep",
    tab: "Backups",
    needs: "treat",
  },
  {
    path: "keep/people",
    name: "People",
    hint: "who may do what here",
    shows: LibraryPeoplePage,
    under: "Keep",
    needs: "administer",
  },
  {
    path: "keep/keys",
    name: "Keys",
    hint: "for machines",
    shows: LibraryKeysPage,
    under: "Keep",
    needs: "administer",
  },
  {
    path: "keep/webhooks",
    name: "Webhooks",
    hint: "what is told, both ways",
    shows: WebhooksPage,
    under: "Keep",
    needs: "administer",
  },
  {
    path: "keep/audit",
    name: "Audit log",
    hint: "who did what here",
    shows: LibraryAuditPage,
    under: "Keep",
    needs: "administer",
  },
];

export const addressOf = (slug: string, path: string) => (path ? `/l/${slug}/${path}` : `/l/${slug}`);

/** The tabs of the work: pages with a name of their own, of those under one heading the first. */
export const WORK = PAGES.filter(
  (page, index) =>
    page.name && (!page.under || PAGES.findIndex((other) => other.under === page.under) === index),
);

/** The pages under one heading, in their order. */
export const under = (heading: string) => PAGES.filter((page) => page.under === heading);

const ServicePeoplePage = lazy(() =>
  import("./pages/PeoplePage").then((page) => ({ default: page.ServicePeoplePage })),
);
const ServiceKeysPage = lazy(() =>
  import("./pages/KeysPage").then((page) => ({ default: page.ServiceKeysPage })),
);
const ServiceAuditPage = lazy(() =>
  import("./pages/AuditPage").then((page) => ({ default: page.ServiceAuditPage })),
);
const SettingsPage = lazy(() =>
  import("./pages/SettingsPage").then((page) => ({ default: page.SettingsPage })),
);
const MachinePage = lazy(() => import("./pages/MachinePage").then((page) => ({ default: page.MachinePage })));

/** The pages of the whole service, for who administers it. */
export const SERVICE: { path: string; name: string; shows: ComponentType }[] = [
  { path: "people", name: "People", shows: ServicePeoplePage },
  { path: "keys", name: "Keys", shows: ServiceKeysPage },
  { path: "audit", name: "Audit log", shows: ServiceAuditPage },
  { path: "machine", name: "Machine", shows: MachinePage },
  { path: "settings", name: "Settings", shows: SettingsPage },
];
