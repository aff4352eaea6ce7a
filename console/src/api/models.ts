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

/** For whom items are wanted: a user it knows, or someone new who touched a few items; `only` are put in order. */
export interface ItemsQuestion {
  user: string;
  touched: string[];
  values: number[] | undefined;
  only: string[];
  where: string;
  known: boolean;
}

interface BestItems {
  list: Schemas["ModelPlace"][];
  leftOut: number;
  whereKeeps: number | null | undefined;
  note: string | null | undefined;
}

async function bestOfAll(model: string, { user, where, known }: ItemsQuestion): Promise<BestItems> {
  const query = { n: LISTED, where: where || undefined, include_known: known };
  const answered = await answer(http.GET("/v1/models/{model}/users/{user}/recommendations", { params: { path: { model, user }, query } }));
  return { list: answered.list, leftOut: answered.left_out, whereKeeps: answered.where_keeps, note: answered.note };
}

async function bestOfThese(model: string, { user, touched, values, only, where, known }: ItemsQuestion): Promise<BestItems> {
  const body = {
    users: user ? [user] : [], items: touched, values, candidates: only.length > 0 ? only : undefined,
    n: LISTED, where: where || undefined, include_known: known,
  };
  const answered = await answer(http.POST("/v1/models/{model}/recommendations", { params: { path: { model } }, body }));
  const unknown = answered.unknown.length > 0 ? `${model} was not trained on user ${user}.` : null;
  return { list: answered.lists[0]?.list ?? [], leftOut: 0, whereKeeps: answered.where_keeps, note: unknown };
}

/** The best items for a user it knows, or for someone new. */
export function useBestItems(model: string, question: ItemsQuestion) {
  const plain = question.touched.length === 0 && question.only.length === 0;
  return useQuery({
    queryKey: ["recommend", model, question],
    queryFn: () => (plain ? bestOfAll : bestOfThese)(model, question),
    enabled: question.user !== "" || question.touched.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** For what users are wanted: an item it knows, or a new one that a few users touched. */
export interface AudienceQuestion {
  item: string;
  touchedBy: string[];
  values: number[] | undefined;
  where: string;
  known: boolean;
}

async function audienceOf(model: string, { item, touchedBy, values, where, known }: AudienceQuestion): Promise<Schemas["Audience"]> {
  const asked = { n: LISTED, where: where || undefined, include_known: known };
  if (touchedBy.length === 0) {
    return answer(http.GET("/v1/models/{model}/items/{item}/audience", { params: { path: { model, item }, query: asked } }));
  }
  const body = { items: [], users: touchedBy, values, ...asked };
  const [audience] = await answer(http.POST("/v1/models/{model}/audiences", { params: { path: { model } }, body }));
  return audience ?? { model, item: null, users: [] };
}

/** The users who would like an item most. */
export function useAudience(model: string, question: AudienceQuestion) {
  return useQuery({
    queryKey: ["audience", model, question],
    queryFn: () => audienceOf(model, question),
    enabled: question.item !== "" || question.touchedBy.length > 0,
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
export function useSimilar(model: string, side: "item" | "user", id: string, where: string) {
  const query = { n: LISTED, where: where || undefined };
  return useQuery({
    queryKey: ["similar", model, side, id, where],
    queryFn: () =>
      answer(
        side === "item"
          ? http.GET("/v1/models/{model}/items/{item}/similar", { params: { path: { model, item: id }, query } })
          : http.GET("/v1/models/{model}/users/{user}/similar", { params: { path: { model, user: id }, query } }),
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

/** Begins to list what is most like every item, or every user, as one file. */
export function useAllAlike(model: string, onBegun: (job: Schemas["Job"]) => void) {
  return useModelWork(
    ({ side, n, where }: { side: "item" | "user"; n: number; where: string }) =>
      answer(http.POST("/v1/models/{model}/lists", { params: { path: { model } }, body: { what: `similar_${side}s`, n, where: where || undefined, include_known: false } })),
    onBegun,
  );
}
