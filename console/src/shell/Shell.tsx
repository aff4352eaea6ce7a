import { UnstyledButton, useComputedColorScheme, useMantineColorScheme } from "@mantine/core";
import { useHotkeys } from "@mantine/hooks";
import { lazy, Suspense, useCallback, useState } from "react";
import { Link, NavLink, Route, Routes, useLocation } from "react-router";
import { useJobs } from "../api/jobs";
import { useSession } from "../api/session";
import { PageTitle } from "../parts/page";
import { Loading } from "../parts/states";
import { SignedIn, SignIn } from "./SignIn";

const Palette = lazy(() => import("./Palette"));
const OverviewPage = lazy(() => import("../pages/overview/OverviewPage"));
const BringInPage = lazy(() => import("../pages/datasets/bring/BringInPage"));
const DataPage = lazy(() => import("../pages/datasets/DataPage"));
const WriteContestPage = lazy(() => import("../pages/contests/write/WriteContestPage"));
const ContestsPage = lazy(() => import("../pages/contests/ContestsPage"));
const TrainPage = lazy(() => import("../pages/models/TrainPage"));
const ModelsPage = lazy(() => import("../pages/models/ModelsPage"));
const NewShelfPage = lazy(() => import("../pages/shelves/NewShelfPage"));
const ShelvesPage = lazy(() => import("../pages/shelves/ShelvesPage"));
const TastePage = lazy(() => import("../pages/taste/TastePage"));
const LivePage = lazy(() => import("../pages/events/LivePage"));
const ExportsPage = lazy(() => import("../pages/exports/ExportsPage"));
const KeysPage = lazy(() => import("../pages/keys/KeysPage"));
const JobsPage = lazy(() => import("../pages/jobs/JobsPage"));

// the order of the pages is the order of the work
const PAGES = [
  { path: "", title: "Overview" },
  { path: "data", title: "Data" },
  { path: "contests", title: "Contests" },
  { path: "models", title: "Models" },
  { path: "shelves", title: "Shelves" },
  { path: "taste", title: "Taste" },
  { path: "live", title: "Live" },
  { path: "exports", title: "Exports" },
  { path: "keys", title: "Keys" },
  { path: "jobs", title: "Jobs" },
];

function SchemeButton() {
  const { setColorScheme } = useMantineColorScheme();
  const scheme = useComputedColorScheme("light");
  const other = scheme === "light" ? "dark" : "light";
  return (
    <UnstyledButton className="quiet" px="1.25rem" onClick={() => setColorScheme(other)}>
      {other === "dark" ? "Dark page" : "Light page"}
    </UnstyledButton>
  );
}

/** Opens the palette, whose code is loaded when it is asked for first. */
function PaletteButton() {
  const [wanted, setWanted] = useState(false);
  const open = useCallback(() => {
    setWanted(true);
    void import("@mantine/spotlight").then((module) => module.spotlight.open());
  }, []);
  useHotkeys([["mod+K", open]], []);
  return (
    <>
      <UnstyledButton className="quiet" px="1.25rem" onClick={open}>Find <span aria-hidden>Ctrl K</span></UnstyledButton>
      {wanted && <Suspense fallback={null}><Palette pages={PAGES} /></Suspense>}
    </>
  );
}

/** What stands at an address that no page has. */
function NotFound() {
  const { pathname } = useLocation();
  return (
    <>
      <PageTitle title="Not found" />
      <p>No page has the address <code>{pathname}</code>. <Link to="/">Overview</Link> shows what there is; Ctrl K finds anything by its name.</p>
    </>
  );
}

function RunningCount() {
  const jobs = useJobs();
  const open = jobs.data?.items.filter((job) => job.state === "running" || job.state === "queued").length ?? 0;
  return open ? <span className="warn">{open} open</span> : null;
}

/** The navigation and the page beside it, or the form to sign in. */
export function Shell() {
  const session = useSession();
  if (session.data?.needsKey) return <SignIn />;
  return (
    <div className="shell">
      <nav className="margin" aria-label="Pages">
        <div className="wordmark">Gleaner</div>
        {PAGES.map((page) => (
          <NavLink key={page.path} to={`/${page.path}`} end={page.path === ""}>
            {page.title}
            {page.path === "jobs" && <RunningCount />}
          </NavLink>
        ))}
        <div style={{ flex: 1 }} />
        {session.data?.key && <SignedIn name={session.data.key} />}
        <PaletteButton />
        <SchemeButton />
      </nav>
      <main className="page">
        <Suspense fallback={<Loading />}>
          <Routes>
            <Route index element={<OverviewPage />} />
            <Route path="data/new" element={<BringInPage />} />
            <Route path="data/:version?" element={<DataPage />} />
            <Route path="contests/new" element={<WriteContestPage />} />
            <Route path="contests/:run?" element={<ContestsPage />} />
            <Route path="models/new" element={<TrainPage />} />
            <Route path="models/:model?" element={<ModelsPage />} />
            <Route path="shelves/new" element={<NewShelfPage />} />
            <Route path="shelves/:shelf?" element={<ShelvesPage />} />
            <Route path="taste/:shelf?" element={<TastePage />} />
            <Route path="live/:dataset?" element={<LivePage />} />
            <Route path="exports" element={<ExportsPage />} />
            <Route path="keys" element={<KeysPage />} />
            <Route path="jobs/:job?" element={<JobsPage />} />
            <Route path="*" element={<NotFound />} />
          </Routes>
        </Suspense>
      </main>
    </div>
  );
}
