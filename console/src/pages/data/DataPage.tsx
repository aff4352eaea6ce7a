import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { api } from "../../api/client";
import { count } from "../../parts/format";
import { PageTitle } from "../../parts/page";
import { Picker } from "../../parts/Picker";
import { Asked, Empty } from "../../parts/states";
import { VersionView } from "./VersionView";

const ADD = "gleaner data add seeds interactions.csv --user grower --item variety --kind kind --time at";

/** Datasets and what each version looks like. */
export default function DataPage() {
  const { version } = useParams();
  const datasets = useQuery({ queryKey: ["datasets"], queryFn: api.datasets });
  return (
    <Asked query={datasets}>
      {(page) => {
        const versions = page.items.flatMap((dataset) => dataset.versions);
        const chosen = version ?? versions[0]?.name;
        if (!chosen) {
          return (
            <>
              <PageTitle title="Data" />
              <Empty what="No datasets yet. This brings one in:" command={ADD} />
            </>
          );
        }
        return (
          <>
            <PageTitle title={chosen}>
              <Picker
                label="Dataset version"
                path="/data"
                options={versions.map((each) => ({ value: each.name, label: `${each.name} (${count(each.rows)} rows)` }))}
                chosen={chosen}
              />
            </PageTitle>
            <VersionView version={chosen} />
          </>
        );
      }}
    </Asked>
  );
}
