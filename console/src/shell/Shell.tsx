import { UnstyledButton, useComputedColorScheme, useMantineColorScheme } from "@mantine/core";
import { lazy, Suspense } from "react";
import { Navigate, NavLink, Route, Routes } from "react-router";
import { ApiError } from "../api/http";
import { useJobs } from "../api/jobs";
import { useSession } from "../api/session";
import { Loading } from "../parts/states";
import { SignedIn, SignIn } from "./SignIn";

const DataPage = lazy(() => import("../pages/datasets/DataPage"));
const ContestsPage = lazy(() => import("../pages/contests/ContestsPage"));
const ModelsPage = lazy(() => import("../pages/models/ModelsPage"));
const ShelvesPage = lazy(() => import("../pages/shelves/ShelvesPage"));
const TastePage = lazy(() => import("../pages/taste/TastePage"));
const LivePage = lazy(() => import("../pages/events/LivePage"));
const JobsPage = lazy(() => import("../pages/jobs/JobsPage"));

// the order of the pages is the order of the work
const PAGES = [
  { path: "data", title: "Data" },
  { path: "contests", title: "Contests" },
  { path: "models", title: "Models" },
  { path: "shelves", title: "Shelves" },
  { path: "taste", title: "Taste" },
  { path: "live", title: "Live" },
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

function RunningCount() {
  const jobs = useJobs();
  const open = jobs.data?.items.filter((job) => job.state === "running" || job.state === "queued").length ?? 0;
  return open ? <span className="warn">{open} open</span> : null;
}

/** The navigation and the page beside it, or the form to sign in. */
export function Shell() {
  const session = useSession();
  if (session.error instanceof ApiError && session.error.status === 401) return <SignIn />;
  return (
    <div className="shell">
      <nav className="margin" aria-label="Pages">
        <div className="wordmark">Gleaner</div>
        {PAGES.map((page) => (
          <NavLink key={page.path} to={`/${page.path}`}>
            {page.title}
            {page.path === "jobs" && <RunningCount />}
          </NavLink>
        ))}
        <div style={{ flex: 1 }} />
        {session.data?.key && <SignedIn name={session.data.key} />}
        <SchemeButton />
      </nav>
      <main className="page">
        <Suspense fallback={<Loading />}>
          <Routes>
            <Route index element={<Navigate to="/data" replace />} />
            <Route path="data/:version?" element={<DataPage />} />
            <Route path="contests/:run?" element={<ContestsPage />} />
            <Route path="models/:model?" element={<ModelsPage />} />
            <Route path="shelves/:shelf?" element={<ShelvesPage />} />
            <Route path="taste/:shelf?" element={<TastePage />} />
            <Route path="live/:dataset?" element={<LivePage />} />
            <Route path="jobs/:job?" element={<JobsPage />} />
            <Route path="*" element={<Navigate to="/data" replace />} />
          </Routes>
        </Suspense>
      </main>
    </div>
  );
}
