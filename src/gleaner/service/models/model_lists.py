"""What a bare model answers: lists in four directions, values, explanations, factors."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import polars as pl

from gleaner.core.errors import InputError, near
from gleaner.core.explain.explanation import Explanation
from gleaner.core.explain.traits import Trait, TraitTable
from gleaner.core.explained import explained_history
from gleaner.core.models.base.capabilities import HasLogOdds, PredictsValues, SideName
from gleaner.service.models.loaded_model import LoadedModel, Side
from gleaner.service.models.user_lists import lists_of_users, positions_of
from gleaner.serving.person import folded
from gleaner.wire.models.explanations import (
    EndTrait,
    ExplainTerm,
    FactorEnd,
    FactorReport,
    FactorsReport,
    LikenessByHand,
    LikenessEntry,
    LikenessStep,
    MapPoint,
    ModelExplanation,
)
from gleaner.wire.models.lists import (
    Audience,
    AudienceMember,
    AudienceRequest,
    ListsRequest,
    ModelLists,
    ModelPlace,
    Neighbour,
    OneList,
    Similar,
)
from gleaner.wire.models.values import Average, RateRequest, Rating, Ratings

MAP_ITEMS = 2000
HAVE_IT = "users who have it"
MOST_TRAITS = 3
ROUNDING = 1e-4
"""Of a score: what sums of some thousand 32-bit numbers differ by; more comes from training."""


def lists_for(loaded: LoadedModel, body: ListsRequest) -> ModelLists:
    """Return the lists of several users, or of someone new from a few items."""
    if bool(body.users) == bool(body.items):
        raise InputError("give users, or items of someone new, one of the two", where="users")
    if body.users:
        return lists_of_users(loaded, body)
    fitted = loaded.fitted
    chosen, holds = loaded.narrowed("item", body.candidates, body.where)
    items: list[ModelPlace] = []
    if chosen != []:
        more: dict[str, Any] = {"include_known": body.include_known, "candidates": chosen}
        items = positions_of(loaded, fitted.recommend_from(body.items, body.values, body.n, **more))
    return ModelLists(model=fitted.name, where_keeps=holds, unknown=[], lists=[OneList(user=None, list=items)])


def audiences_for(loaded: LoadedModel, body: AudienceRequest) -> list[Audience]:
    """Users who would like items most: those training knows, or one new from users who touched it."""
    if bool(body.users) == bool(body.items):
        raise InputError("give items, or users of a new item, one of the two", where="items")
    fitted = loaded.fitted
    chosen, holds = loaded.narrowed("user", body.candidates, body.where)
    if chosen == []:
        asked_for: list[str | None] = [*body.items] or [None]
        return [Audience(model=fitted.name, item=item, where_keeps=holds, users=[]) for item in asked_for]
    if body.users:
        more: dict[str, Any] = {"include_known": body.include_known, "candidates": chosen}
        frame = fitted.audience_from(body.users, body.values, body.n, **more)
        return [Audience(model=fitted.name, item=None, where_keeps=holds, users=_liked(loaded, frame))]
    known = {item: set() if body.include_known else loaded.untrained_users_with(item) for item in body.items}
    n = body.n + max(map(len, known.values()))
    frame = fitted.audience(body.items, n, include_known=body.include_known, candidates=chosen)
    parts = frame.partition_by("item", as_dict=True)
    return [
        Audience(
            model=fitted.name,
            item=item,
            where_keeps=holds,
            users=_liked(loaded, _without(parts.get((item,), frame.clear()), known[item], body.n)),
        )
        for item in dict.fromkeys(body.items)
    ]


def _without(frame: pl.DataFrame, users: set[str], n: int) -> pl.DataFrame:
    """Return the first n rows of an audience without some users."""
    if users:
        frame = frame.filter(~pl.col("user").is_in(list(users)))
    position = pl.int_range(1, pl.len() + 1, dtype=pl.Int32).alias("position")
    return frame.head(n).with_columns(position)


def _liked(loaded: LoadedModel, frame: pl.DataFrame) -> list[AudienceMember]:
    return [
        AudienceMember(
            user=row["user"], position=row["position"], score=row["score"], columns=loaded.columns("user", row["user"])
        )
        for row in frame.iter_rows(named=True)
    ]


def similar_to(loaded: LoadedModel, side: Side, id: str, n: int, where: str | None) -> Similar:
    """Items like an item, or users like a user."""
    chosen, _ = loaded.narrowed(side, None, where)
    frame = loaded.fitted.similar(side, id, n, chosen) if chosen != [] else pl.DataFrame()
    alike = [
        Neighbour(id=(id_ := row.pop(side)), **row, columns=loaded.columns(side, id_))
        for row in frame.iter_rows(named=True)
    ]
    return Similar(model=loaded.fitted.name, id=id, side=side, by=loaded.fitted.likeness_is(side), list=alike)


def likeness_of(loaded: LoadedModel, side: Side, one: str, other: str, n: int) -> LikenessByHand:
    """How alike two are, worked by hand, with the n numbers of both that weigh most."""
    worked, fitted = loaded.fitted.likeness(side, one, other), loaded.fitted
    weight = next((name for name in ("product", "squared_difference") if name in worked.entries.columns), "one")
    heaviest = worked.entries.sort(pl.col(weight).abs(), "entry", descending=[True, False]).head(n)
    entries = []
    for row in heaviest.iter_rows(named=True):
        entry = row.pop("entry")
        if worked.entries_of == "factor":
            entries.append(LikenessEntry(id=str(entry), columns=row))
            continue
        id = (fitted.train.items if worked.entries_of == "item" else fitted.train.users).id(entry)
        entries.append(LikenessEntry(id=id, name=loaded.name_of(worked.entries_of, id), columns=row))
    note = None
    if abs(worked.model_has - worked.result) > ROUNDING * max(1.0, abs(worked.result)):
        note = "the model keeps the nearest of each only, and the other is not among those of the one"
    return LikenessByHand(
        model=fitted.name,
        side=side,
        one=one,
        other=other,
        one_name=loaded.name_of(side, one),
        other_name=loaded.name_of(side, other),
        by=worked.by,
        entries_of=worked.entries_of,
        entries=entries,
        entries_in_all=worked.entries.height,
        steps=[LikenessStep(what=each.what, worked=each.worked, result=each.result) for each in worked.steps],
        result=worked.result,
        model_has=worked.model_has,
        note=note,
    )


def ratings_for(loaded: LoadedModel, body: RateRequest) -> Ratings:
    """Predicted values of pairs; of a model that predicts none, the chances that users take items."""
    fitted, pairs = loaded.fitted, body.pairs
    asked = [pair.user for pair in pairs], [pair.item for pair in pairs], [pair.context for pair in pairs]
    by_value = isinstance(fitted.model, PredictsValues)
    if not by_value and not isinstance(fitted.model, HasLogOdds):
        lacks = "it predicts no values, as als_values does, and has no likelihood, as logistic does"
        text = f"{fitted.name} ({fitted.model.family}) ranks: {lacks}"
        raise InputError(text, where="model")
    given: dict[SideName, pl.DataFrame | None] = {"users": loaded.users.frame, "items": loaded.items.frame}
    tables = {side: frame for side, frame in given.items() if frame is not None}
    frame = fitted.rate(*asked, tables=tables) if by_value else fitted.likelihood(*asked, tables=tables)
    scale = fitted.train.scale if by_value else (0.0, 1.0)
    assert scale is not None
    return Ratings(
        model=fitted.name,
        answers="value" if by_value else "likelihood",
        scale=scale,
        ratings=[Rating(**row) for row in frame.iter_rows(named=True)],
    )


def averages_of(loaded: LoadedModel, n: int) -> list[Average]:
    """Observed against predicted for the items with the most values."""
    return [Average(**row) for row in loaded.fitted.averages(n).iter_rows(named=True)]


def explanation_of(loaded: LoadedModel, user: str, item: str, n: int) -> ModelExplanation:
    """Why a user gets a score for an item; the n most telling terms."""
    explanation = _explained(loaded, user, item)
    terms = [
        ExplainTerm(id=(id := row.pop(explanation.side)), name=_name_of(loaded, explanation.side, id), columns=row)
        for row in explanation.terms.head(n).iter_rows(named=True)
    ]
    value = None
    if isinstance(loaded.fitted.model, PredictsValues) and loaded.fitted.train.scale is not None:
        value = float(
            np.clip(
                explanation.result if explanation.result is not None else explanation.score, *loaded.fitted.train.scale
            )
        )
    rest = explanation.terms.height - len(terms)
    if rest and explanation.result is not None:
        adds = float(explanation.terms["adds"][len(terms) :].sum())
        terms.append(ExplainTerm(id=f"{rest:,} more", columns={"adds": adds}))
    return ModelExplanation(
        model=loaded.fitted.name,
        user=user,
        item=item,
        kind="sum" if explanation.kind == "sum" else "nearest",
        score=explanation.score,
        start=explanation.start,
        result=explanation.result,
        formula=explanation.formula,
        apart=_apart(explanation.result, explanation.score),
        side=explanation.side,
        value=value,
        terms=terms,
    )


def _explained(loaded: LoadedModel, user: str, item: str) -> Explanation:
    """Explain the score of a trained user, or of one who is folded in. Raises UnknownNameError for any other."""
    fitted, person = loaded.fitted, loaded.person(user)
    representation = None if person.row is not None else folded(fitted, person)
    if representation is None:
        return fitted.explain(user, item)
    item_row = int(fitted.known_rows(fitted.train.items, [item], "item")[0])
    return explained_history(fitted, user, item, item_row, representation, person.whole(fitted.typical_value))


def _name_of(loaded: LoadedModel, side: Side | Literal["input"], id: str) -> str | None:
    return None if side == "input" else loaded.name_of(side, id)


def _apart(result: float | None, score: float) -> str | None:
    """Why the sum of the terms is not the score to the digits that are shown."""
    if result is None or f"{result:.4f}" == f"{score:.4f}":
        return None
    if abs(result - score) <= ROUNDING * max(1.0, abs(score)):
        return f"the score itself is {score:.4f}: it is added up in 32-bit numbers, which round"
    return f"the score itself is {score:.4f}: training stopped near the exact solution, of which this is the sum"


def factors_of(loaded: LoadedModel, n: int, colour: str | None = None) -> FactorsReport:
    """Each factor with its ends, what they have in common, and the map of the items most users have.
    colour: a column of the item table, whose values go with the points. Raises InputError for one that has no few
    values, or is not there."""
    columns = loaded.items.few_valued()
    if colour is not None and colour not in columns:
        raise InputError(f"the map cannot be coloured by {colour!r}{near(colour, columns)}", where="colour")
    fitted = loaded.fitted
    view, items = fitted.factor_view, fitted.train.items

    def ends(rows: np.ndarray, factor: int) -> list[FactorEnd]:
        return [
            FactorEnd(
                item=(id := items.id(int(row))), name=loaded.name_of("item", id), at=float(view.items[row, factor])
            )
            for row in rows
        ]

    counts = np.bincount(fitted.train.indices, minlength=len(items))
    traits = TraitTable(loaded.items.columns_of(items.ids).with_columns(pl.Series(HAVE_IT, counts)))

    def messages(found: list[Trait]) -> list[EndTrait]:
        return [EndTrait(column=of.column, value=of.value, here=of.here, overall=of.overall) for of in found]

    factors = []
    for factor, share in enumerate(view.shares):
        top, bottom = view.ends(factor, n)
        high, low = traits.of_ends(*view.ends(factor, view.end_items), MOST_TRAITS)
        factors.append(
            FactorReport(
                factor=factor + 1,
                share=share,
                top=ends(top, factor),
                bottom=ends(bottom, factor),
                top_traits=messages(high),
                bottom_traits=messages(low),
            )
        )
    points = []
    for row in np.lexsort((fitted.ties, -counts))[:MAP_ITEMS]:
        id = items.id(int(row))
        x, y = (float(at) for at in view.map[row])
        value = None if colour is None else loaded.items.of(id, [colour]).get(colour)
        name = loaded.name_of("item", id)
        shown = None if value is None else str(value)
        points.append(MapPoint(item=id, name=name, x=x, y=y, count=int(counts[row]), value=shown))
    return FactorsReport(model=fitted.name, factors=factors, map=points, columns=columns, end_items=view.end_items)
