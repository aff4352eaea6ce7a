import { Anchor, Button } from "@mantine/core";
import type { ReactNode } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { useModel, useModels, type ModelCard, type ModelSummary } from "../../api/models";
import { FigureTable } from "../../parts/FigureTable";
import { count, figure, moment } from "../../parts/format";
import { PageTitle, Section } from "../../parts/page";
import { Loaded, Empty } from "../../parts/states";
import { CardPart } from "./CardPart";
import { ExplainView } from "./ExplainView";
import { FactorsView } from "./factors/FactorsView";
import { AudienceView } from "./ask/AudienceView";
import { RateView } from "./ask/RateView";
import { RecommendView } from "./ask/RecommendView";
import { SimilarView } from "./ask/SimilarView";
import { RemoveModel } from "./RemoveModel";
import { TakeModel } from "./TakeModel";
import { TrainingView } from "./TrainingView";

/** The registry, and the card of one model. */
export default function ModelsPage() {
  const { model } = useParams();
  const models = useModels();
  return (
    <>
      {model ? (
        <OneModel name={model} />
      ) : (
        <>
          <PageTitle title="Models">
            <Button component={Link} to="/models/new" size="xs" variant="default">Train one alone</Button>
            <TakeModel />
          </PageTitle>
          <Loaded query={models}>
            {({ items }) =>
              items.length ? <ModelTable models={items} /> : (
                <Empty what="No models yet. A contest trains several and registers them; one alone can be trained too.">
                  <Button component={Link} to="/contests/new" size="xs">Write a contest</Button>
                </Empty>
              )
            }
          </Loaded>
        </>
      )}
    </>
  );
}

function ModelTable({ models }: { models: ModelSummary[] }) {
  return (
    <Section title="Registry">
      <FigureTable
        label="Registry"
        rows={models}
        rowKey={(row) => row.name}
        columns={[
          { title: "model", value: (row) => row.name, show: (row) => <Anchor component={Link} to={`/models/${row.name}`}>{row.name}</Anchor> },
          { title: "data", value: (row) => row.data },
          { title: "run", value: (row) => row.run, show: (row) => (row.run ? <Anchor component={Link} to={`/contests/${row.run}`}>{row.run}</Anchor> : "") },
          { title: "users", number: true, value: (row) => row.users, show: (row) => count(row.users) },
          { title: "items", number: true, value: (row) => row.items, show: (row) => count(row.items) },
          { title: "deciding figure, test", number: true, value: (row) => row.figures[row.decided_by ?? ""] ?? null, show: (row) => (row.decided_by ? `${row.decided_by} ${figure(row.figures[row.decided_by] ?? 0)}` : "") },
          { title: "trained", value: (row) => row.created_at, show: (row) => moment(row.created_at) },
        ]}
      />
    </Section>
  );
}

/** What can be seen of a model and asked of it; some only of those that can answer. */
const VIEWS: { name: string; title: string; draw: (card: ModelCard) => ReactNode; fits?: (card: ModelCard) => boolean }[] = [
  { name: "card", title: "Card", draw: (card) => <><CardPart card={card} /><RemoveModel card={card} /></> },
  { name: "training", title: "Training", draw: (card) => <TrainingView card={card} />, fits: (card) => (card.rounds ?? []).length > 1 },
  { name: "recommend", title: "Recommend", draw: (card) => <RecommendView card={card} /> },
  { name: "rate", title: "Rate", draw: (card) => <RateView card={card} />, fits: (card) => card.predicts_values || card.likelihood != null },
  { name: "similar", title: "Similar", draw: (card) => <SimilarView card={card} /> },
  { name: "audience", title: "Audience", draw: (card) => <AudienceView card={card} /> },
  { name: "explain", title: "Explain", draw: (card) => <ExplainView card={card} /> },
  { name: "factors", title: "Factors", draw: (card) => <FactorsView card={card} />, fits: (card) => card.has_factors },
];

function OneModel({ name }: { name: string }) {
  const [search] = useSearchParams();
  const query = useModel(name);
  return (
    <>
      <PageTitle title={name} />
      <Loaded query={query}>
        {(card) => {
          const views = VIEWS.filter((each) => each.fits?.(card) ?? true);
          const view = views.find((each) => each.name === search.get("view")) ?? views[0];
          return (
            <>
              <nav className="views" aria-label={`Parts of ${name}`}>
                {views.map((each) => (
                  <Link key={each.name} to={`/models/${name}${each.name === "card" ? "" : `?view=${each.name}`}`} aria-current={each === view ? "true" : undefined}>
                    {each.title}
                  </Link>
                ))}
              </nav>
              {view?.draw(card)}
            </>
          );
        }}
      </Loaded>
    </>
  );
}
