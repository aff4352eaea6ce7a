"""A shelf without a service: the same file, the same stages, on models and frames of a notebook."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import polars as pl

from gleaner.core.data.live import LiveRows
from gleaner.core.data.past import PastRows
from gleaner.core.data.tables.row_features import read_cells
from gleaner.core.errors import InputError, UnknownNameError, near
from gleaner.core.fitted import Fitted
from gleaner.core.metrics.catalogue import MetricReference
from gleaner.core.metrics.evaluation import RankPlan
from gleaner.core.metrics.statistics import Interval
from gleaner.core.preparation.live_cells import LiveReading
from gleaner.library.frames import table_of
from gleaner.library.parts import SplitParts
from gleaner.serving.building import ShelfBuilder, ShelfTables, build
from gleaner.serving.conditions import KnownUsers
from gleaner.serving.evaluation import HeldOutUsers, candidates_of, drawn_users, lists_of
from gleaner.serving.shelf import LoadedShelf
from gleaner.serving.tables import ItemTable
from gleaner.wire.shelves.shelf import RecommendRequest, ShelfSpec


@dataclass(frozen=True, eq=False)
class FrameLookups:
    """Models by name, and two frames, each with a column `id`."""

    models: Mapping[str, Fitted]
    items: pl.DataFrame | None
    users: pl.DataFrame | None

    def model(self, name: str) -> Fitted:
        """A model by its name. Raises UnknownNameError."""
        if name not in self.models:
            raise UnknownNameError(f"there is no model {name!r}{near(name, self.models)}", where="models")
        return self.models[name]

    def tables(self, main: Fitted) -> ShelfTables:
        """The frames, and the kinds that the model learned from."""
        people = KnownUsers(ItemTable(self.users), list(main.train.kind_names), _nothing_past, LiveRows())
        return ShelfTables(ItemTable(self.items), people)

    def reading(self, fitted: Fitted) -> LiveReading:
        """There are no events."""
        return LiveReading()


def _nothing_past() -> PastRows:
    raise InputError("a shelf of a notebook knows no rows but those its models learned from", where="where")


@dataclass(frozen=True, eq=False)
class LocalShelf:
    """A shelf that answers here."""

    loaded: LoadedShelf

    def recommend(self, user: str | None = None, n: int = 10, **request: Any) -> pl.DataFrame:
        """A list as it would be served: item, position, score, source, promoted, and the columns to show. `request`
        takes what a request to the service takes: recent, where, candidates, context.

        There is always a list; `why_not` says from what it was made for someone unknown.
        """
        answer = self.loaded.answer(RecommendRequest(user=user, n=n, **request))
        places = [{name: value for name, value in each.items() if name != "columns"} for each in answer.places.fields()]
        shown = pl.DataFrame(answer.places.columns) if any(answer.places.columns) else pl.DataFrame()
        frame = pl.DataFrame(places, infer_schema_length=None).select("item", "position", "score", "source", "promoted")
        return frame.hstack(shown.select(pl.exclude(frame.columns)))

    def why_not(self, user: str | None = None, **request: Any) -> str | None:
        """What stands in for a trained history, and why; None for someone the model was trained on."""
        stand_in = self.loaded.answer(RecommendRequest(user=user, n=1, **request)).stand_in
        return stand_in.fallback or stand_in.folded_in

    def evaluate(self, parts: SplitParts, metric: str = "ndcg@10", users: int = 5_000) -> pl.DataFrame:
        """What the lists for the users of the test part are worth, stage by stage: columns stage, metric, mean, low,
        high (95 % of resamples of users), users. The models must be fitted on `parts.whole`.

        First the recall of each source of candidates and of all together; then how well the candidates are put in
        order, over the users who have a relevant one among them; last the lists as served. Raises InputError for a
        metric that lists alone do not give, and for models that were fitted on something else.
        """
        reference = MetricReference.parse(metric)
        plan = RankPlan([reference.name], [reference.k or 10], parts.seed)
        if reference.metric.sort in ("order", "values", "likelihood") or reference.k is None:
            raise InputError(f"lists alone do not give {metric}", where="metric")
        if parts.parts.stages[-1].shown is not None or parts.parts.stages[-1].fold is not None:
            raise InputError(
                "folds make several test parts, and users held out whole are new to every model", where="parts"
            )
        train = self.loaded.model.fitted.train
        if train.users.ids != parts.whole.users.ids or train.n_cells != parts.whole.n_cells:
            raise InputError(f"{self.loaded.model.fitted.name} was not fitted on parts.whole", where="parts")
        held_out = HeldOutUsers(drawn_users(parts.test, users, parts.seed), parts.whole, parts.whole)
        rows: list[tuple[str, str, Interval, int]] = []
        found = candidates_of(self.loaded, held_out, plan, _unheard)
        if found is not None:
            n_users = len(held_out.truth.user_rows)
            rows += [(f"candidates, {each.name}", "recall", each.recall, n_users) for each in found.sources]
            rows.append(("order of the candidates", metric, found.scored.means[metric], found.users))
        served = held_out.figures(lists_of(self.loaded, held_out, max(plan.at), _unheard)[0], plan)
        rows.append(("as served", metric, served.means[metric], served.n_users))
        return pl.DataFrame(
            [(stage, name, each.mean, each.low, each.high, n) for stage, name, each, n in rows],
            schema=["stage", "metric", "mean", "low", "high", "users"],
            orient="row",
        )


def _unheard(done: float) -> None:
    """Nobody waits for it."""


def shelf(file: Mapping[str, Any], models: Sequence[Fitted], *, items: Any = None, users: Any = None) -> LocalShelf:
    """A shelf from the fields of its file and the models that it names. items, users: frames, the id first.

    Raises InputError or UnknownNameError naming what does not fit.
    """
    given = table_of(items, "items"), table_of(users, "users")
    tables = [None if each is None else read_cells(each)[0] for each in given]
    lookups = FrameLookups({each.name: each for each in models}, *tables)
    return LocalShelf(build(ShelfBuilder(lookups, ShelfSpec.model_validate(file), {}), 0, _no_other))


def _no_other(name: str) -> LoadedShelf:
    raise InputError(f"a shelf of a notebook cannot list what shelf {name!r} lists", where="candidates")
