"""What a second stage looks at: what its members say of a pair, what user and item are, and how they meet."""

from __future__ import annotations

import json
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import polars as pl
from scipy import sparse

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features, of_length_one
from gleaner.core.errors import DataError
from gleaner.core.kernels import topn as kernels
from gleaner.core.kernels.second_stage import join_lists, row_products
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.second_stage.context_lifts import ContextLifts
from gleaner.core.models.second_stage.peers import ROLES, Lifts

IN_WORDS = ("category", "categories", "flag", "text")
"""Roles of columns in which a user's history and an item can have something in common."""

IN_NUMBERS = ("number", "date", "flag")
MAX_FEATURES = 1_000_000
LATELY = 0.2
"""The newest share of the interactions, whose count says what is asked for lately."""

HALF_LIFE_DAYS = 30.0
"""So many days before a user's last interaction one counts half in what they have in common with an item lately."""

IN_COMMON, IN_COMMON_LATELY = "in common: ", "in common lately: "


Known = tuple[np.ndarray, np.ndarray]
"""What users have, as CSR: offsets by the row of a user, and item rows."""


@dataclass(frozen=True, eq=False)
class CandidatePairs:
    """Pairs to put in order. bounds: int64 (n_users + 1,), which of the pairs belong to which of the users asked for;
    items: int32; scores: float32 (n_pairs, n_members), as the members give them, and places, the place in each member's
    list from 1, or one behind the last that was looked at. context: a row for each of the users."""

    users: np.ndarray
    bounds: np.ndarray
    items: np.ndarray
    scores: np.ndarray
    places: np.ndarray
    context: pl.DataFrame | None = None

    @property
    def rows(self) -> np.ndarray:
        """Which of the users asked for every pair belongs to."""
        return np.repeat(np.arange(len(self.users)), np.diff(self.bounds))

    @property
    def owners(self) -> np.ndarray:
        """The row of the user of every pair."""
        return np.repeat(self.users, np.diff(self.bounds))


def candidates_of(
    tables: list[np.ndarray],
    known: Known,
    users: np.ndarray,
    most: int,
    ties: np.ndarray,
    context: pl.DataFrame | None = None,
) -> CandidatePairs:
    """The best `most` items of each member for some users, joined, what a user has left out.

    tables: the scores of each member, float32 (n_users, n_items). ties: the order of equal scores. context: a row for
    each user.
    """
    n_items = len(ties)
    most = min(most, n_items)
    listed = np.empty((len(tables), len(users), most), np.int32)
    for table, mine in zip(tables, listed, strict=True):
        open_items = table.copy()
        kernels.mask_rows(open_items, users, *known)
        kernels.select_rows(open_items, ties, mine, np.empty(mine.shape, np.float32))
    items, bounds, ranks = _joined(listed, n_items)
    owners = np.repeat(np.arange(len(users)), np.diff(bounds))
    scores = np.column_stack([table[owners, items] for table in tables])
    return CandidatePairs(users, bounds, items, scores, ranks, context)


def _joined(listed: np.ndarray, n_items: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Items of all lists of each user, rising, and the place of each in every list."""
    n_members, n_users, _ = listed.shape
    items = np.empty(listed.size, np.int32)
    ranks = np.empty((listed.size, n_members), np.int32)
    bounds = np.empty(n_users + 1, np.int64)
    n_pairs = join_lists(listed, n_items, items, ranks, bounds)
    return items[:n_pairs].copy(), bounds, ranks[:n_pairs].copy()


@dataclass(frozen=True, eq=False)
class Facts:
    """What is known of users and items beside their ids, and of the items that users have.

    item_facts, user_facts: float32 (n_items, k) and (n_users, l). contents: by column, unit rows of items and the unit
    rows of users' histories, whose product says how much an item has in common with what a user has; where cells have
    times once more, with histories that fade. peers: how much
    more those with the same value of a user column take an item; context: how much more it is taken where a column of
    the interaction is the same.
    """

    names: list[str]
    item_facts: np.ndarray
    user_facts: np.ndarray
    contents: list[tuple[sparse.csr_array, sparse.csr_array]]
    peers: Lifts
    context: ContextLifts

    @classmethod
    def of(cls, train: InteractionMatrix, features: Features, *, time_since: bool = False) -> Facts:
        """Of the users and items of a training matrix, by the columns that are looked at. time_since: with the ages of
        items, and with histories that fade."""
        counts = np.bincount(train.indices, minlength=len(train.items))
        popularity = np.log1p(counts)
        item_names, item_facts = ["item: log of how many have it"], [popularity]
        if train.days is not None and np.isfinite(train.days).any():
            lately = np.nan_to_num(train.days, nan=-np.inf) >= np.nanquantile(train.days, 1 - LATELY)
            recent = np.log1p(np.bincount(train.indices[lately], minlength=len(train.items)))
            item_names += ["item: log of how many took it lately", "item: lately against usual"]
            item_facts += [recent, recent - popularity]
            if time_since:
                item_names += [f"item: log of the days since it was {which} taken" for which in ("first", "last")]
                item_facts += list(_days_since(train))
        lengths = np.diff(train.indptr)
        means = np.bincount(train.user_rows, popularity[train.indices], minlength=len(lengths)) / np.maximum(lengths, 1)
        user_names, user_facts = (
            ["user: log of how many they have", "user: mean popularity of these"],
            [
                np.log1p(lengths),
                means,
            ],
        )
        for side, columns, names, facts in (
            ("item", features.items, item_names, item_facts),
            ("user", features.users, user_names, user_facts),
        ):
            for column in columns:
                if column.role in IN_NUMBERS:
                    names.append(f"{side}: {column.name}")
                    facts.append(column.matrix[:, [0]].toarray()[:, 0])
        wordy = [column for column in features.items if column.role in IN_WORDS]
        rows_of_content = [of_length_one(column.matrix) for column in wordy]
        fading = _fading(train) if time_since else None
        contents = _contents(rows_of_content, train, fading)
        of_groups = [column for column in features.users if column.role in ROLES]
        common = [f"{IN_COMMON}{column.name}" for column in wordy]
        common += [] if fading is None else [f"{IN_COMMON_LATELY}{column.name}" for column in wordy]
        alike = [f"users of the same {column.name}" for column in of_groups]
        names = [*item_names, *user_names, *common, *alike, *(f"in the same {name}" for name in features.context)]
        peers, context = Lifts.of_users(of_groups, train), ContextLifts.of(list(features.context), train)
        return cls(names, _columns(item_facts), _columns(user_facts), contents, peers, context)

    def state(self) -> Arrays:
        """The facts as arrays: rows of items over the columns of all contents, one after the other; names as JSON."""
        n_items = len(self.item_facts)
        once = self.contents[: sum(name.startswith(IN_COMMON) for name in self.names)]
        widths = [rows.shape[1] for rows, _ in once]
        whole = sparse.hstack([rows for rows, _ in once], format="csr") if widths else None
        rows = sparse.csr_array((n_items, 0), dtype=np.float32) if whole is None else sparse.csr_array(whole)
        return {
            "facts.items": self.item_facts,
            "facts.users": self.user_facts,
            "facts.names": np.frombuffer(json.dumps(self.names).encode(), np.uint8),
            "contents.bounds": np.concatenate([[0], np.cumsum(widths)]).astype(np.int64),
            "contents.indptr": rows.indptr.astype(np.int64),
            "contents.indices": rows.indices.astype(np.int32),
            "contents.data": rows.data.astype(np.float32),
            "contents.width": np.array([max(1, rows.shape[1])], np.int64),
            **self.peers.state("peers"),
            **self.context.state(),
        }

    @staticmethod
    def layout(n_users: int, n_items: int) -> Layout:
        """What the arrays must be."""
        return {
            "facts.items": ArraySpec("float32", (n_items, "item facts")),
            "facts.users": ArraySpec("float32", (n_users, "user facts")),
            "facts.names": ArraySpec("uint8", ("letters",)),
            "contents.width": ArraySpec("int64", (1,), low=1, below=MAX_FEATURES),
            "contents.bounds": ArraySpec("int64", ("bounds",), low=0, rising=True),
            "contents.indptr": ArraySpec("int64", (n_items + 1,), offsets_of="contents.indices"),
            "contents.indices": ArraySpec("int32", ("entries",), low=0, below="contents.width"),
            "contents.data": ArraySpec("float32", ("entries",)),
            **Lifts.layout("peers", n_items),
            **ContextLifts.layout(n_items),
        }

    @classmethod
    def load_state(cls, arrays: Arrays, train: InteractionMatrix) -> Facts:
        """Load them from a state whose layout was checked. Raises DataError where the parts do not fit."""
        width, bounds = int(arrays["contents.width"][0]), arrays["contents.bounds"]
        if not len(bounds) or bounds[0] != 0 or bounds[-1] > width:
            raise DataError(
                "array 'contents.bounds' must begin at 0 and stay within the width", where="contents.bounds"
            )
        cells = (arrays["contents.data"], arrays["contents.indices"], arrays["contents.indptr"])
        whole = sparse.csr_array(cells, shape=(len(train.items), width))
        blocks = [sparse.csr_array(whole[:, lo:hi]) for lo, hi in pairwise(bounds.tolist())]
        peers, context = Lifts.load_state("peers", arrays, len(train.users)), ContextLifts.load_state(arrays)
        names = _names(arrays["facts.names"])
        fades = any(name.startswith(IN_COMMON_LATELY) for name in names)
        contents = _contents(blocks, train, _fading(train) if fades else None)
        facts = cls(names, arrays["facts.items"], arrays["facts.users"], contents, peers, context)
        n_facts = facts.item_facts.shape[1] + facts.user_facts.shape[1] + len(contents) + peers.n_columns
        n_facts += len(context.encoder.names)
        if len(facts.names) != n_facts:
            raise DataError("array 'facts.names' must hold a name for each fact", where="facts.names")
        return facts

    def of_history(self, item_rows: np.ndarray) -> Facts:
        """The same for one person, whom training never saw, from the items they have: the user of row 0."""
        lengths = len(item_rows)
        user = np.zeros((1, self.user_facts.shape[1]), np.float32)
        # of their columns nothing is known, which is what the mean of a column, 0, says
        user[0, :2] = np.log1p(lengths), self.item_facts[item_rows, 0].mean() if lengths else 0.0
        ones = sparse.csr_array(np.ones((1, lengths), np.float32))
        contents = [(rows, of_length_one(sparse.csr_array(ones @ rows[item_rows]))) for rows, _ in self.contents]
        return Facts(self.names, self.item_facts, user, contents, self.peers.of_nobody(), self.context)

    def of_pairs(
        self, users: np.ndarray, items: np.ndarray, rows: np.ndarray, context: pl.DataFrame | None
    ) -> np.ndarray:
        """Facts of pairs: float32 (n, len(names)). rows: which of the rows of the context each is in."""
        common = [_in_common(of_items, histories, users, items) for of_items, histories in self.contents]
        lifts = self.peers.of_pairs(users, items), self.context.of_pairs(rows, items, context)
        parts = [self.item_facts[items], self.user_facts[users], *common, *lifts]
        return np.column_stack(parts).astype(np.float32, copy=False)


def _in_common(
    of_items: sparse.csr_array, histories: sparse.csr_array, users: np.ndarray, items: np.ndarray
) -> np.ndarray:
    """The product of what an item and a user's history say of one column, pair by pair: float32 (n,)."""
    out = np.empty(len(users), np.float32)
    left, right = ((each.indptr, each.indices, each.data) for each in (histories, of_items))
    row_products(users, left, items, right, of_items.shape[1], out)
    return out


def _columns(parts: list[np.ndarray]) -> np.ndarray:
    return np.column_stack(parts).astype(np.float32)


def _days_since(train: InteractionMatrix) -> tuple[np.ndarray, np.ndarray]:
    """Logarithms of one more than the days from the first, and from the last, interaction of each item to the newest of
    all: float64 (n_items,). An item without a time is as one that was taken at the very beginning."""
    assert train.days is not None
    dated = np.isfinite(train.days)
    newest, oldest = float(train.days[dated].max()), float(train.days[dated].min())
    first, last = np.full(len(train.items), np.inf), np.full(len(train.items), -np.inf)
    np.minimum.at(first, train.indices[dated], train.days[dated])
    np.maximum.at(last, train.indices[dated], train.days[dated])
    known = np.isfinite(first)
    ends = (np.where(known, each, oldest) for each in (first, last))
    return tuple(np.log1p(newest - each) for each in ends)  # type: ignore[return-value]


def _fading(train: InteractionMatrix) -> np.ndarray | None:
    """What each cell counts in a history that fades, from the last interaction of its user back: float32 (n_cells,).
    None where no cell has a time."""
    if train.days is None or not np.isfinite(train.days).any():
        return None
    days = np.nan_to_num(train.days, nan=-np.inf)
    last = np.full(len(train.users), -np.inf)
    np.maximum.at(last, train.user_rows, days)
    ago = np.where(np.isfinite(days), last[train.user_rows] - np.where(np.isfinite(days), days, 0), np.inf)
    return np.exp2(-ago / HALF_LIFE_DAYS).astype(np.float32)


def _contents(
    rows_of_columns: list[sparse.csr_array], train: InteractionMatrix, fading: np.ndarray | None
) -> list[tuple[sparse.csr_array, sparse.csr_array]]:
    """Each column with histories as they are; then once more with those that fade."""
    ones = np.ones(train.n_cells, np.float32)
    weights = [ones] if fading is None else [ones, fading]
    return [(rows, _histories(rows, train, each)) for each in weights for rows in rows_of_columns]


def _histories(rows: sparse.csr_array, train: InteractionMatrix, weights: np.ndarray) -> sparse.csr_array:
    """Weighted sums of the rows of what users have, of length one."""
    has = sparse.csr_array((weights, train.indices, train.indptr), shape=train.shape)
    return of_length_one(sparse.csr_array(has @ rows))


def _names(letters: np.ndarray) -> list[str]:
    try:
        names = json.loads(letters.tobytes())
    except ValueError:
        names = None
    if not isinstance(names, list) or not all(isinstance(name, str) for name in names):
        raise DataError("array 'facts.names' must hold a list of names as JSON", where="facts.names")
    return names


def member_inputs(candidates: CandidatePairs) -> np.ndarray:
    """Two columns for each member: its score, less the mean over the user's candidates, over their deviation; and one
    over one more than the logarithm of the item's place."""
    lengths = np.maximum(np.diff(candidates.bounds), 1)
    owner = np.repeat(np.arange(len(lengths)), np.diff(candidates.bounds))
    columns = []
    for scores, places in zip(candidates.scores.T.astype(np.float64), candidates.places.T, strict=True):
        means = np.bincount(owner, scores, minlength=len(lengths)) / lengths
        apart = scores - means[owner]
        spread = np.sqrt(np.bincount(owner, apart**2, minlength=len(lengths)) / lengths)
        columns += [apart / np.where(spread > 0, spread, 1)[owner], 1 / (1 + np.log(places))]
    return np.column_stack(columns).astype(np.float32)


def inputs_of(candidates: CandidatePairs, facts: Facts, kept: np.ndarray | None = None) -> np.ndarray:
    """Every input of the pairs, or of those of a mask: float32 (n_pairs, n_inputs)."""
    at = np.arange(len(candidates.items)) if kept is None else np.flatnonzero(kept)
    rows = candidates.rows[at]
    known = facts.of_pairs(candidates.users[rows], candidates.items[at], rows, candidates.context)
    return np.column_stack([member_inputs(candidates)[at], known])
