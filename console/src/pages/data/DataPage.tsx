import { Select } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useNavigate, useParams } from "react-router";
import { api } from "../../api/client";
import { PageTitle } from "../../parts/page";
import { Asked, Empty } from "../../parts/states";
import { VersionView } from "./VersionView";

const ADD = "gleaner data add seeds interactions.csv --user grower --item variety --kind kind --time at";

/** Datasets and what each version looks like. */
export default function DataPage() {
  const { version } = useParams();
  const navigate = useNavigate();
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
              <Select
                aria-label="Dataset version"
                size="xs"
                w={230}
                allowDeselect={false}
                data={versions.map((each) => ({ value: each.name, label: `${each.name} (${each.rows.toLocaleString("en")} rows)` }))}
                value={chosen}
                onChange={(value) => value && void navigate(`/data/${value}`)}
              />
            </PageTitle>
            <VersionView version={chosen} />
          </>
        );
      }}
    </Asked>
  );
}
