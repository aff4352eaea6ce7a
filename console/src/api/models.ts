import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, http, type Schemas } from "./http";

export type ModelSummary = Schemas["ModelSummary"];
export type ModelCard = Schemas["ModelCard"];

export type TrainRequest = Schemas["TrainRequest"];

const LISTED = 20;

/** What training will take; the request as JSON, so that it is asked for again when it changes. */
export function useTrainEstimate(request: string) {
  return useQuery({
    queryKey: ["estimate", request],
    queryFn: () => answer(http.POST("/v1/estimates", { body: JSON.parse(request) as TrainRequest })),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

function useModelWork<Given>(begin: (given: Given) => Promise<Schemas["Job"]>, onBegun: (job: Schemas["Job"]) => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: begin,
    onSuccess: (job) => {
      void queries.invalidateQueries({ queryKey: ["jobs"] });
      onBegun(job);
    },
  });
}

/** Trains one model. */
export function useBeginTraining(onBegun: (job: Schemas["Job"]) => void) {
  return useModelWork((body: TrainRequest) => answer(http.POST("/v1/models", { body })) as Promise<Schemas["Job"]>, onBegun);
}

/** Takes in a model that was exported, from an upload. */
export function useTakeModel(onBegun: (job: Schemas["Job"]) => void) {
  return useModelWork((upload: string) => answer(http.POST("/v1/models/take", { body: { upload } })), onBegun);
}

/** Removes a model. */
export function useRemoveModel(onDone: () => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (model: string) => answer(http.DELETE("/v1/models/{model}", { params: { path: { model } } })),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["models"] });
      onDone();
    },
  });
}

/** Every model, newest first. */
export function useModels() {
  return useQuery({ queryKey: ["models"], queryFn: () => answer(http.GET("/v1/models", { params: { query: { limit: 200 } } })) });
}

/** Fetches a model's card. */
export function fetchModel(model: string): Promise<ModelCard> {
  return answer(http.GET("/v1/models/{model}", { params: { path: { model } } })) as Promise<ModelCard>;
}

/** A model's card, which never changes. */
export function useModel(model: string) {
  return useQuery({ queryKey: ["model", model], queryFn: () => fetchModel(model), staleTime: Infinity });
}

/** The best items for a user. */
export function useUserList(model: string, user: string, where: string, known: boolean) {
  return useQuery({
    queryKey: ["recommend", model, user, where, known],
    queryFn: () =>
      answer(
        http.GET("/v1/models/{model}/users/{user}/recommendations", {
          params: { path: { model, user }, query: { n: LISTED, where: where || undefined, include_known: known } },
        }),
      ),
    enabled: user !== "",
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** The users who would like an item most. */
export function useAudience(model: string, item: string, where: string, known: boolean) {
  return useQuery({
    queryKey: ["audience", model, item, where, known],
    queryFn: () =>
      answer(
        http.GET("/v1/models/{model}/items/{item}/audience", {
          params: { path: { model, item }, query: { n: LISTED, where: where || undefined, include_known: known } },
        }),
      ),
    enabled: item !== "",
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** How alike two items, or users, are, worked by hand. */
export function useLikeness(model: string, side: "item" | "user", one: string, other: string) {
  return useQuery({
    queryKey: ["likeness", model, side, one, other],
    queryFn: () => answer(http.GET("/v1/models/{model}/likeness", { params: { path: { model }, query: { side, one, other } } })),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** What is most like an item, or a user. */
export function useSimilar(model: string, side: "item" | "user", id: string) {
  return useQuery({
    queryKey: ["similar", model, side, id],
    queryFn: () =>
      answer(
        side === "item"
          ? http.GET("/v1/models/{model}/items/{item}/similar", { params: { path: { model, item: id }, query: { n: LISTED } } })
          : http.GET("/v1/models/{model}/users/{user}/similar", { params: { path: { model, user: id }, query: { n: LISTED } } }),
      ),
    enabled: id !== "",
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** The value a user would give an item. */
export function useRating(model: string, user: string, item: string, context: Record<string, string>) {
  return useQuery({
    queryKey: ["rate", model, user, item, context],
    queryFn: () => answer(http.POST("/v1/models/{model}/ratings", { params: { path: { model } }, body: { pairs: [{ user, item, context }] } })),
    enabled: user !== "" && item !== "",
  });
}

/** Observed and predicted means of the items with most values. */
export function useAverages(model: string, n: number) {
  return useQuery({
    queryKey: ["averages", model],
    queryFn: () => answer(http.GET("/v1/models/{model}/averages", { params: { path: { model }, query: { n } } })),
  });
}

/** Why a user gets a score for an item. */
export function useExplanation(model: string, user: string, item: string) {
  return useQuery({
    queryKey: ["explain", model, user, item],
    queryFn: () => answer(http.GET("/v1/models/{model}/explanation", { params: { path: { model }, query: { user, item } } })),
    enabled: user !== "" && item !== "",
    retry: false,
  });
}

/** What the factors of a model stand for; so many items at each end. */
export function useFactors(model: string, ends: number, colour: string | null) {
  return useQuery({
    queryKey: ["factors", model, colour],
    queryFn: () => answer(http.GET("/v1/models/{model}/factors", { params: { path: { model }, query: { n: ends, colour } } })),
    staleTime: Infinity,
    placeholderData: (before) => before,
  });
}
