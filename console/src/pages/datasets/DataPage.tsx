import { Button } from "@mantine/core";
import { Link, useParams, useSearchParams } from "react-router";
import type { ReactNode } from "react";
import { useDatasets, useVersion, type DatasetVersion } from "../../api/datasets";
import { count } from "../../parts/format";
import { PageTitle } from "../../parts/page";
import { Picker } from "../../parts/Picker";
import { Loaded } from "../../parts/states";
import { FirstData } from "./bring/FirstData";
import { FeaturesView } from "./FeaturesView";
import { ImportView } from "./bring/ImportView";
import { ItemView } from "./ItemView";
import { OverlapView } from "./OverlapView";
import { ProfileView } from "./ProfileView";
import { QueryView } from "./QueryView";
import { RowsView } from "./RowsView";
import { SplitView } from "./split/SplitView";
import { UserView } from "./user/UserView";
import { VersionsView } from "./VersionsView";

/** The parts of a version, in the order one looks: what it is like, what import made of it, single rows, then what changes. */
const VIEWS: { name: string; title: string; draw: (version: DatasetVersion) => ReactNode }[] = [
  { name: "profile", title: "Profile", draw: (version) => <ProfileView version={version} /> },
  { name: "import", title: "Import", draw: (version) => <ImportView version={version} /> },
  { name: "rows", title: "Rows", draw: (version) => <RowsView version={version} /> },
  { name: "sql", title: "SQL", draw: (version) => <QueryView version={version} /> },
  { name: "item", title: "One item", draw: (version) => <ItemView version={version} /> },
  { name: "user", title: "One user", draw: (version) => <UserView version={version} /> },
  { name: "overlap", title: "Overlap", draw: (version) => <OverlapView version={version} /> },
  { name: "features", title: "Features", draw: (version) => <FeaturesView version={version} /> },
  { name: "split", title: "Prepare and split", draw: (version) => <SplitView version={version} /> },
  { name: "versions", title: "Versions", draw: (version) => <VersionsView version={version} /> },
];

/** Datasets and what each version looks like. */
export default function DataPage() {
  const { version } = useParams();
  const datasets = useDatasets();
  return (
    <Loaded query={datasets}>
      {(page) => {
        const versions = page.items.flatMap((dataset) => dataset.versions);
        const chosen = version ?? versions[0]?.name;
        if (!chosen) {
          return (
            <>
              <PageTitle title="Data" />
              <FirstData />
            </>
          );
        }
        return (
          <>
            <PageTitle title={chosen}>
              <Button component={Link} to="/data/new" size="xs" variant="default">Bring data in</Button>
              <Picker
                label="Dataset version"
                path="/data"
                options={versions.map((each) => ({ value: each.name, label: `${each.name} (${count(each.rows)} rows)` }))}
                chosen={chosen}
              />
            </PageTitle>
            <Version name={chosen} />
          </>
        );
      }}
    </Loaded>
  );
}

function Version({ name }: { name: string }) {
  const [search] = useSearchParams();
  const query = useVersion(name);
  const view = VIEWS.find((each) => each.name === search.get("view")) ?? VIEWS[0];
  return (
    <>
      <nav className="views" aria-label={`Parts of ${name}`}>
        {VIEWS.map((each) => (
          <Link key={each.name} to={`/data/${name}${each.name === "profile" ? "" : `?view=${each.name}`}`} aria-current={each === view ? "true" : undefined}>
            {each.title}
          </Link>
        ))}
      </nav>
      <Loaded query={query}>{(version) => view?.draw(version)}</Loaded>
    </>
  );
}
