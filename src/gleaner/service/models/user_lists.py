"""Lists of one model for users: those it was trained on, and those it can fold in from their rows and events."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import polars as pl

from gleaner.core.errors import UnknownNameError
from gleaner.core.ranking.list_tables import table_of_list
from gleaner.service.models.loaded_model import LoadedModel
from gleaner.serving.person import Person, folded, why_not_personal
from gleaner.wire.models.lists import ListsRequest, ModelList, ModelLists, ModelPlace, OneList

Frames = dict[str, pl.DataFrame]
"""A table of each user's list: user, position, item, score."""


def list_for(loaded: LoadedModel, user: str, n: int, *, include_known: bool, where: str | None) -> ModelList:
    """Return the n best items of one user, of those for which a condition holds.

    Raises UnknownNameError for a user whom the model was neither trained on nor can fold in, InputError for a condition
    that does not fit.
    """
    fitted, person = loaded.fitted, loaded.person(user)
    if not _has_list(loaded, person):
        text = f"{fitted.name}: {why_not_personal(fitted, person)}; a shelf answers for anybody, with a fallback"
        raise UnknownNameError(text, where="user")
    lists = lists_of_users(loaded, ListsRequest(users=[user], n=n, include_known=include_known, where=where))
    items = lists.lists[0].list
    return ModelList(
        model=fitted.name,
        user=user,
        known=person.row is not None,
        asked=n,
        left_out=0 if include_known else len(person.known),
        where_keeps=lists.where_keeps,
        list=items,
        note=_note(loaded, person, n, len(items)),
    )


def lists_of_users(loaded: LoadedModel, body: ListsRequest) -> ModelLists:
    """Return the lists of several users, each once, without those who have none."""
    fitted = loaded.fitted
    chosen, holds = loaded.narrowed("item", body.candidates, body.where)
    people = {user: loaded.person(user) for user in dict.fromkeys(body.users)}
    served = {user: person for user, person in people.items() if _has_list(loaded, person)}
    frames = Frames() if chosen == [] else _frames(loaded, served, body, chosen)
    lists = [OneList(user=user, list=positions_of(loaded, frames[user]) if user in frames else []) for user in served]
    unknown = [user for user in body.users if user not in served]
    return ModelLists(model=fitted.name, where_keeps=holds, unknown=unknown, lists=lists)


def positions_of(loaded: LoadedModel, frame: pl.DataFrame) -> list[ModelPlace]:
    """Return the rows of a list as messages, with likelihoods if the model has them and was trained on the user."""
    fitted = loaded.fitted
    chances: list[float | None] = [None] * frame.height
    if fitted.has_likelihood and "user" in frame.columns:
        chances = fitted.likelihood(frame["user"].to_list(), frame["item"].to_list())["likelihood"].to_list()
    return [
        ModelPlace(
            item=row["item"],
            position=row["position"],
            score=row["score"],
            likelihood=chance,
            source=fitted.name,
            columns=loaded.columns("item", row["item"]),
        )
        for row, chance in zip(frame.iter_rows(named=True), chances, strict=True)
    ]


def _has_list(loaded: LoadedModel, person: Person) -> bool:
    if person.row is not None or not loaded.fitted.model.personal:
        return True
    return folded(loaded.fitted, person) is not None


def _frames(loaded: LoadedModel, people: dict[str, Person], body: ListsRequest, chosen: Sequence[str] | None) -> Frames:
    """Return a table for each user: of trained users without further rows in one pass, of others one by one."""
    fitted = loaded.fitted
    trained = [
        user
        for user, person in people.items()
        if person.row is not None and (body.include_known or len(person.known) == len(person.history))
    ]
    frames = Frames()
    if trained:
        frame = fitted.recommend(trained, body.n, include_known=body.include_known, candidates=chosen)
        frames |= {str(user): part for (user,), part in frame.partition_by("user", as_dict=True).items()}
    allowed = fitted.mask(fitted.train.items, chosen, "candidates")
    for user in people.keys() - set(trained):
        frames[user] = _frame(loaded, people[user], body, allowed)
    return frames


def _frame(loaded: LoadedModel, person: Person, body: ListsRequest, allowed: np.ndarray | None) -> pl.DataFrame:
    fitted, known = loaded.fitted, None if body.include_known else person.known
    if person.row is not None:
        lists = fitted.best_for(person.row, body.n, allowed, known)
    else:
        lists = fitted.best_of(folded(fitted, person), body.n, allowed, known)
    frame = table_of_list(lists, "item", fitted.train.items)
    return frame if person.row is None else frame.with_columns(user=pl.lit(person.user))


def _note(loaded: LoadedModel, person: Person, n: int, n_listed: int) -> str | None:
    notes = []
    if person.row is None and loaded.fitted.model.personal:
        n_items = len(person.touched)
        notes.append(f"not in the training data; computed from {n_items} item{'s' if n_items != 1 else ''} they have")
    if n_listed < n:
        notes.append(f"{n} were asked for, {n_listed} are left to recommend")
    return "; ".join(notes) or None
