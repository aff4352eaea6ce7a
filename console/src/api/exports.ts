import { useMutation, useQueryClient } from "@tanstack/react-query";
import { answer, http, type Schemas } from "./http";

export type ExportRequest = Schemas["ExportRequest"];

/** Begins an export. */
export function useBeginExport(onBegun: (job: Schemas["Job"]) => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: ExportRequest) => answer(http.POST("/v1/exports", { body })),
    onSuccess: (job) => {
      void queries.invalidateQueries({ queryKey: ["jobs"] });
      onBegun(job);
    },
  });
}

/** Where the file that a job wrote can be fetched. */
export function fileOfJob(job: number): string {
  return `/v1/jobs/${job}/file`;
}
