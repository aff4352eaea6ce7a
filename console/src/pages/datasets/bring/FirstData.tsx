import { Button } from "@mantine/core";
import { Link, useNavigate } from "react-router";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useBringExample } from "../../../api/imports";
import { JobProgress } from "../../../parts/jobs/JobProgress";
import { Empty, Failed } from "../../../parts/states";

/** An installation without data: bring some in, or take the example's. */
export function FirstData() {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [job, setJob] = useState<number | null>(null);
  const bring = useBringExample((begun) => setJob(begun.id));
  return (
    <>
      <Empty what="Nothing is here yet. Begin with a file of interactions, such as orders, views or ratings; or look around first with the data of a made-up seed exchange.">
        <Button component={Link} to="/data/new" size="xs">Bring data in</Button>
        <Button size="xs" variant="default" loading={bring.isPending} disabled={job !== null} onClick={() => bring.mutate()}>Take the example data</Button>
      </Empty>
      <p className="quiet">Then: look at the data, compare models in a contest, serve the best one from a shelf, and watch it live.</p>
      {bring.error && <Failed error={bring.error} title="This was refused" />}
      {job !== null && (
        <JobProgress
          id={job}
          onDone={(done) => {
            void queries.invalidateQueries();
            void navigate(`/data/${String(done.result?.version)}`);
          }}
        />
      )}
    </>
  );
}
