import { Group } from "@mantine/core";
import { useNames } from "../../../api/datasets";
import { useAverages, useRating, type ModelCard } from "../../../api/models";
import { NamedItem } from "../../../parts/ids/NamedItem";
import { FigureTable } from "../../../parts/FigureTable";
import { count, percent } from "../../../parts/format";
import { Figures, Section } from "../../../parts/page";
import { Loaded } from "../../../parts/states";
import { ContextFields } from "./ContextFields";
import { useChoice, usePairs } from "../choice";
import { IdPicker } from "../../../parts/ids/IdPicker";
import { ReliabilityView } from "../ReliabilityView";

/** The value a user would give an item, or the chance that they take it, and how far that can be believed. */
export function RateView({ card }: { card: ModelCard }) {
  return (
    <>
      <Section title={card.predicts_values ? "One value" : "One chance"}>
        <OnePair card={card} />
      </Section>
      {card.predicts_values && <Observed card={card} />}
      {card.likelihood && (
        <Section title="Calibration">
          <ReliabilityView likelihood={card.likelihood} />
        </Section>
      )}
    </>
  );
}

function OnePair({ card }: { card: ModelCard }) {
  const [user, setUser] = useChoice("user");
  const [item, setItem] = useChoice("item");
  const [context, setContext] = usePairs("context");
  const rated = useRating(card.name, user, item, context);
  return (
    <>
      <Group align="start" mb="sm">
        <IdPicker side="user" data={card.data} chosen={user} onChoose={setUser} />
        <IdPicker side="item" data={card.data} chosen={item} onChoose={setItem} />
        <ContextFields names={card.columns?.context_columns ?? []} values={context} onSet={setContext} />
      </Group>
      {user && item && (
        <Loaded query={rated}>
          {(ratings) => {
            const one = ratings.ratings[0];
            if (!one) return null;
            const answer: [string, string] =
              ratings.answers === "likelihood"
                ? ["chance that it is taken when shown", one.likelihood == null ? "none" : percent(one.likelihood)]
                : [`value, ${ratings.scale.join(" to ")}`, one.value == null ? "none" : one.value.toFixed(2)];
            return (
              <>
                <Figures rows={[answer, ["answerable", one.answerable ? "yes" : "no"]]} />
                {!one.answerable && <p className="quiet">{one.fell_back_on ? `${one.reason}; the value is ${one.fell_back_on} instead.` : `${one.reason}.`}</p>}
              </>
            );
          }}
        </Loaded>
      )}
    </>
  );
}

function Observed({ card }: { card: ModelCard }) {
  const averages = useAverages(card.name, 30);
  const names = useNames(card.data, "item", averages.data?.map((each) => each.item) ?? []).data;
  return (
    <Section title="Observed against predicted">
      <Loaded query={averages}>
        {(rows) => (
          <FigureTable
            label="Observed against predicted"
            rows={rows}
            rowKey={(row) => row.item}
            pageSize={10}
            columns={[
              { title: "item", value: (row) => row.item, show: (row) => <NamedItem id={row.item} name={names?.get(row.item)} /> },
              { title: "values", number: true, value: (row) => row.count, show: (row) => count(row.count) },
              { title: "observed mean", number: true, value: (row) => row.observed, show: (row) => row.observed.toFixed(2) },
              { title: "predicted mean", number: true, value: (row) => row.predicted, show: (row) => row.predicted.toFixed(2) },
              { title: "gap", number: true, value: (row) => row.predicted - row.observed, show: (row) => (row.predicted - row.observed).toFixed(2) },
            ]}
          />
        )}
      </Loaded>
      <p className="quiet">Items with the most values, over the users who gave one in training.</p>
    </Section>
  );
}
