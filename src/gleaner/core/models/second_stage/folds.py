"""What a second stage learns from: lists of members that never saw what they are judged by."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.composition.members import scores_of_member
from gleaner.core.models.second_stage.inputs import (
    CandidatePairs,
    Facts,
    candidates_of,
    inputs_of,
)
from gleaner.core.parallel import even_ranges, run_ranges

BLOCK = 256
"""Users whose tables of scores one thread has in memory at once."""


@dataclass(frozen=True)
class Folding:
    """How lists to learn from are made. folds: users are divided into so many parts, and for each part the members are
    fitted without a `share` of what its users have: of each the latest, or any. candidates: of each member. negatives:
    candidates that a list keeps which the user did not take."""

    folds: int
    share: float
    latest: bool
    candidates: int
    negatives: int
    seed: int


@dataclass(frozen=True, eq=False)
class Lessons:
    """Lists to learn an order from. table: float32 (n, n_inputs). labels: 1 where the user took the item. groups: rows
    of each list, in order."""

    table: np.ndarray
    labels: np.ndarray
    groups: np.ndarray


def held_out_of(train: InteractionMatrix, how: Folding) -> tuple[np.ndarray, np.ndarray]:
    """The fold of every user, and which cells are held out in it: of who has two or more the share, at least one, and
    never all; the latest of each, or any."""
    random = np.random.default_rng(how.seed)
    fold = random.integers(0, how.folds, len(train.users)).astype(np.int8)
    lengths = np.diff(train.indptr)
    drawn = random.random(train.n_cells)
    days = train.days if how.latest else None
    if days is not None:
        order = np.lexsort((drawn, -np.nan_to_num(days, nan=-np.inf), train.user_rows))
    else:
        order = np.lexsort((drawn, train.user_rows))
    place = np.empty(train.n_cells, np.int64)
    place[order] = np.arange(train.n_cells) - np.repeat(train.indptr[:-1], lengths)
    wanted = np.where(lengths < 2, 0, np.clip(np.round(how.share * lengths), 1, lengths - 1))
    return fold, place < np.repeat(wanted, lengths)


def lessons(
    train: InteractionMatrix,
    facts_of: Callable[[InteractionMatrix], Facts],
    how: Folding,
    fit: Callable[[InteractionMatrix, int], list[Model]],
    ties: np.ndarray,
) -> Lessons:
    """Lists of every fold. facts_of: what is known of users and items from some cells. fit: the members on some cells,
    told which fold it is."""
    fold, held_out = held_out_of(train, how)
    parts: list[Lessons] = []
    for number in range(how.folds):
        mine = held_out & (fold[train.user_rows] == number)
        if not mine.any():
            continue
        seen, wanted = train.only(~mine), train.only(mine)
        models, facts = fit(seen, number), facts_of(seen)
        parts += _lists_of_fold(models, facts, seen, wanted, how, ties, number)
    return _together(parts)


def _lists_of_fold(
    models: list[Model],
    facts: Facts,
    seen: InteractionMatrix,
    to_find: InteractionMatrix,
    folding: Folding,
    ties: np.ndarray,
    number: int,
) -> list[Lessons]:
    """Return the lists of the users of one fold, block by block."""
    users = np.flatnonzero(np.diff(to_find.indptr) > 0).astype(np.int32)
    asked_in = _asked_in(to_find, users)
    blocks = even_ranges(len(users), BLOCK)
    lists: dict[int, Lessons] = {}

    def work(lo: int, hi: int) -> None:
        block, context = users[lo:hi], None if asked_in is None else asked_in[lo:hi]
        tables = [scores_of_member(model, block, context) for model in models]
        candidates = candidates_of(tables, (seen.indptr, seen.indices), block, folding.candidates, ties, context)
        # a generator for each block: what is drawn does not depend on which thread comes first
        random = np.random.default_rng([folding.seed, 1, number, lo])
        lists[lo] = _lists(candidates, facts, to_find, folding, random)

    run_ranges(work, blocks)
    return [lists[lo] for lo, _ in blocks]


def _asked_in(wanted: InteractionMatrix, users: np.ndarray) -> pl.DataFrame | None:
    """The context of the first held-out cell of some users, in time where cells have one: their list is asked for in
    it, as in a contest."""
    if wanted.context is None:
        return None
    days = np.zeros(wanted.n_cells) if wanted.days is None else np.nan_to_num(wanted.days, nan=np.inf)
    order = np.lexsort((days, wanted.user_rows))
    return wanted.context[order[wanted.indptr[users]]]


def _lists(
    candidates: CandidatePairs, facts: Facts, wanted: InteractionMatrix, how: Folding, random: np.random.Generator
) -> Lessons:
    """The lists of some users, in which there is something to tell apart."""
    owners, n_items = candidates.owners, len(wanted.items)
    # no user between the first and the last of a block has cells to find, but those of the block
    users, bounds = candidates.users, wanted.indptr
    own = slice(bounds[users[0]], bounds[users[-1] + 1])
    keys = np.repeat(users, bounds[users + 1] - bounds[users]).astype(np.int64) * n_items + wanted.indices[own]
    pairs = owners.astype(np.int64) * n_items + candidates.items
    taken = np.isin(pairs, keys, assume_unique=True)
    kept = taken | _some(~taken, candidates.bounds, how.negatives, random)
    place = np.repeat(np.arange(len(candidates.users)), np.diff(candidates.bounds))
    both = (np.bincount(place, taken) > 0) & (np.bincount(place, kept & ~taken) > 0)
    kept &= both[place]
    table = inputs_of(candidates, facts, kept)
    groups = np.bincount(place[kept], minlength=len(candidates.users))
    return Lessons(table, taken[kept].astype(np.float32), groups[groups > 0])


def _some(free: np.ndarray, bounds: np.ndarray, most: int, random: np.random.Generator) -> np.ndarray:
    """At most so many of each user's pairs that are free, drawn at random."""
    lengths = np.diff(bounds)
    owner = np.repeat(np.arange(len(lengths)), lengths)
    drawn = np.where(free, random.random(len(free)), 2.0)
    order = np.lexsort((drawn, owner))
    place = np.empty(len(free), np.int64)
    place[order] = np.arange(len(free)) - np.repeat(bounds[:-1], lengths)
    return free & (place < most)


def _together(parts: list[Lessons]) -> Lessons:
    if not parts:
        return Lessons(np.empty((0, 0), np.float32), np.empty(0, np.float32), np.empty(0, np.int64))
    names = ("table", "labels", "groups")
    return Lessons(*(np.concatenate([getattr(each, name) for each in parts]) for name in names))
