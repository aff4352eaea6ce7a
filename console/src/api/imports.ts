import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, answer, http, refusal, type Schemas } from "./http";

export type ColumnGuess = Schemas["ColumnGuess"];
export type Derive = Schemas["Derive"];
export type FileProposal = Schemas["FileProposal"];
export type ImportReport = Schemas["ImportReport"];
export type ImportRequest = Schemas["ImportRequest"];
export type ProposalRequest = Schemas["ProposalRequest"];
export type Source = Schemas["Source"];
export type TypeName = Schemas["ColumnType"]["type"];

const KEPT_MS = 60_000;

/** Sends the bytes of a file; tells the share that has gone. */
export function sendFile(file: File, onSent: (share: number) => void): Promise<Schemas["Upload"]> {
  return new Promise((resolve, reject) => {
    // fetch does not say how much of a body has gone
    const request = new XMLHttpRequest();
    request.open("POST", `/v1/uploads?file=${encodeURIComponent(file.name)}`);
    request.responseType = "json";
    request.setRequestHeader("Content-Type", "application/octet-stream");
    request.upload.onprogress = (event) => onSent(event.total ? event.loaded / event.total : 0);
    request.onerror = () => reject(new ApiError("The service does not answer.", 0));
    request.onload = () => {
      if (request.status < 300) resolve(request.response as Schemas["Upload"]);
      else reject(refusal(request.response, request.status, request.statusText));
    };
    request.send(file);
  });
}

/** Format, columns, roles and types that files seem to have, and their first rows; nothing is asked without a file. After
 * a refusal `data` is the last answer. */
export function useProposal(request: ProposalRequest | null) {
  const query = useQuery({
    queryKey: ["proposal", request],
    queryFn: () => answer(http.POST("/v1/proposals", { body: request as ProposalRequest })),
    enabled: request !== null,
    placeholderData: keepPreviousData,
    staleTime: KEPT_MS,
    retry: false,
  });
  const [last, setLast] = useState(query.data);
  if (query.data !== undefined && query.data !== last) setLast(query.data);
  // a refusal has no data: what was found before stays
  return { ...query, data: query.data ?? last };
}

/** Begins an import, or only a look at what it would keep. */
export function useBeginImport(onBegun: (job: Schemas["Job"]) => void) {
  return useMutation({
    mutationFn: ({ name, request }: { name: string; request: ImportRequest }) =>
      answer(http.POST("/v1/datasets/{name}/versions", { params: { path: { name } }, body: request })),
    onSuccess: onBegun,
  });
}

/** What an import that only looked found; nothing is asked before it is done. */
export function useImportLook(job: number | null, done: boolean) {
  return useQuery({
    queryKey: ["import-look", job],
    queryFn: () => answer(http.GET("/v1/imports/{job}", { params: { path: { job: job ?? 0 } } })),
    enabled: done && job !== null,
    staleTime: Infinity,
  });
}

/** Begins to bring in the data of the example. */
export function useBringExample(onBegun: (job: Schemas["Job"]) => void) {
  return useMutation({ mutationFn: () => answer(http.POST("/v1/example-data")), onSuccess: onBegun });
}
