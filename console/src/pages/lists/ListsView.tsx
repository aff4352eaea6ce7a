import { Anchor, Button } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";
import { type Run } from "../../api/contests";
import { type Schemas } from "../../api/http";
import { useListWork, type Analysis } from "../../api/lists";
import { FigureTable } from "../../parts/FigureTable";
import { count, moment } from "../../parts/format";
import { Opened } from "../../parts/Opened";
import { Section } from "../../parts/page";
import { useSearch } from "../../parts/search";
import { Loaded, Empty } from "../../parts/states";
import { AnalyseModel } from "./AnalyseModel";
import { AnalysisSettings } from "./AnalysisSettings";
import { AnalysisView } from "./AnalysisView";
import { FileOfLists } from "./FileOfLists";
import { ScoresView } from "./ScoresView";

type Work = Schemas["ListWork"];

/** Lists made elsewhere that were scored, and lists that were analysed, on the run's data; one of them in full. */
export function ListsView({ run }: { run: Run }) {
  const [search, choose] = useSearch();
  const [how, setHow] = useState<Analysis>({ n: 10, expected_n: 20, kernel: "rbf", content: [] });
  const [asked, setAsked] = useState(false);
  const query = useListWork(run.data);
  const open = (job: number) => choose("lists", String(job));
  return (
    <Loaded query={query}>
      {({ items }) => {
        const chosen = items.find((each) => String(each.job) === search.get("lists"));
        return (
          <>
            <Section title={`Lists scored and analysed on ${run.data}`}>
              <AnalyseModel run={run} how={how} open={open} />
              <FileOfLists run={run} how={how} open={open} />
              <Button size="compact-xs" variant="subtle" my="xs" aria-expanded={asked} onClick={() => setAsked(!asked)}>How lists are analysed</Button>
              {asked && <AnalysisSettings run={run} how={how} onChange={setHow} />}
              {items.length === 0 ? (
                <Empty what="None yet. Lists that were made elsewhere can be scored beside these contenders, or analysed: a file with the columns user, item, and place or score." />
              ) : (
                <Made items={items} open={open} />
              )}
            </Section>
            {chosen && (
              <Opened id={chosen.job}>
                {chosen.work === "analysis" && <AnalysisView job={chosen.job} />}
                {chosen.work === "scores" && <ScoresView job={chosen.job} />}
              </Opened>
            )}
          </>
        );
      }}
    </Loaded>
  );
}

function Made({ items, open }: { items: Work[]; open: (job: number) => void }) {
  return (
    <FigureTable
      label="Lists scored and analysed"
      rows={items}
      rowKey={(row) => String(row.job)}
      pageSize={8}
      columns={[
        { title: "lists", value: (row) => row.label, show: (row) => <Anchor component="button" type="button" inherit onClick={() => open(row.job)}>{row.label}</Anchor> },
        { title: "work", value: (row) => row.work },
        { title: "beside", value: (row) => row.beside ?? null },
        { title: "users", number: true, value: (row) => row.users, show: (row) => count(row.users) },
        { title: "ended", value: (row) => row.ended_at, show: (row) => moment(row.ended_at) },
        { title: "job", number: true, value: (row) => row.job, show: (row) => <Anchor component={Link} to={`/jobs/${row.job}`}>{row.job}</Anchor> },
      ]}
    />
  );
}
