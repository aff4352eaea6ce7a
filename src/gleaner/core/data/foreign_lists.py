"""Recommendation lists made elsewhere: put in order, held against a training matrix, everything odd counted."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import polars as pl

from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import DataError

EXAMPLES = 3


@dataclass
class ListOddities:
    """What was odd about lists, counted. Examples name users or items as they stand in the file."""

    rows: int = 0
    users: int = 0
    repeats: int = 0
    uneven_places: int = 0
    users_scored: int = 0
    users_without_list: int = 0
    users_not_counted: int = 0
    unknown_items: int = 0
    unknown_item_rows: int = 0
    known_rows: int = 0
    short_lists: int = 0
    examples: dict[str, list[str]] = field(default_factory=dict)

    def note(self, name: str, examples: list[str]) -> None:
        """Count what has a name, and keep the first of them."""
        setattr(self, name, len(examples))
        if examples:
            self.examples[name] = examples[:EXAMPLES]


def ordered(rows: pl.DataFrame, oddities: ListOddities) -> pl.DataFrame:
    """Lists in order: columns user, item, place (from 1), the first of repeated items kept.

    rows: user and item (text), and `place` (number, lowest first) or `score` (highest first), or both: then the score
    orders, and of equal scores the lower place. Rows equal in these stay as they come. Raises DataError naming the row
    (from 1, headings not counted) of a missing id or a place or score that is no number.
    """
    keys = [name for name in ("score", "place") if name in rows.columns]
    for name in ("user", "item", *keys):
        column = rows[name]
        wrong = (column.is_null() | column.is_nan() if column.dtype.is_float() else column.is_null()).arg_true()
        if len(wrong):
            what = "is missing" if name in ("user", "item") else "is missing or no number"
            more = f", and of {len(wrong) - 1:,} more rows" if len(wrong) > 1 else ""
            raise DataError(f"row {wrong[0] + 1:,}: {name} {what}{more}", where=name)
    by = [-pl.col("score")] if "score" in keys else []
    by += [pl.col("place")] if "place" in keys else []
    whole = rows.with_row_index("at").sort("user", *by, "at")
    oddities.rows, oddities.users = rows.height, rows["user"].n_unique()
    if "place" in keys:
        oddities.note("uneven_places", _uneven(whole))
    kept = whole.unique(["user", "item"], keep="first", maintain_order=True)
    oddities.repeats = whole.height - kept.height
    return kept.select("user", "item", place=pl.int_range(1, pl.len() + 1).over("user"))


def _uneven(whole: pl.DataFrame) -> list[str]:
    """Users whose places are not 1, 2, 3 ... (or 0, 1, 2 ...) in the order of their list."""
    step = pl.col("place").diff().over("user")
    first = pl.col("place").first().over("user")
    odd = whole.filter((step.is_not_null() & (step != 1)) | (first > 1) | (first < 0))
    return odd["user"].unique(maintain_order=True).to_list()


def arranged(
    lists: pl.DataFrame,
    known: InteractionMatrix,
    items: IdMap,
    user_rows: np.ndarray,
    n: int,
    oddities: ListOddities,
    *,
    drop_known: bool = False,
) -> np.ndarray:
    """Lists as rows of item rows, int32 (len(user_rows), n), -1 for an empty place: what metrics are read from.

    lists: what `ordered` gives. known: what each user has already, users in its rows. Items that the catalogue lacks
    and items the user has hold their place, where they can only miss: a list that shows them spends it. drop_known
    takes the latter out, and the rest moves up.
    """
    users = lists["user"].unique(maintain_order=True)
    place_of = np.full(len(known.users), -1, dtype=np.int64)
    place_of[user_rows] = np.arange(len(user_rows))
    rows = known.users.rows(users.to_list())
    target = np.where(rows >= 0, place_of[rows], -1)
    oddities.note("users_not_counted", users.filter(pl.Series(target < 0)).to_list())
    counted = pl.DataFrame({"user": users, "row": target.astype(np.int32), "known_row": rows}).filter(
        pl.col("row") >= 0
    )
    oddities.users_scored = counted.height
    missing = np.setdiff1d(np.arange(len(user_rows)), counted["row"].to_numpy())
    oddities.note("users_without_list", known.users.take(user_rows[missing]))
    pairs = lists.join(counted, on="user", maintain_order="left")
    ids = pairs["item"].unique(maintain_order=True)
    codes = pl.DataFrame({"item": ids, "code": items.rows(ids.to_list())})
    pairs = pairs.join(codes, on="item", how="left", maintain_order="left")
    oddities.note("unknown_items", codes.filter(pl.col("code") < 0)["item"].to_list())
    oddities.unknown_item_rows = int((pairs["code"] < 0).sum())
    has = _pairs_known(known, pairs["known_row"].to_numpy(), pairs["code"].to_numpy())
    oddities.known_rows = int(has.sum())
    if drop_known:
        pairs = pairs.filter(pl.Series(~has)).with_columns(place=pl.int_range(1, pl.len() + 1).over("user"))
    lengths = pairs.group_by("user").len()["len"].to_numpy()
    oddities.short_lists = int((lengths < n).sum()) + counted.height - len(lengths)
    pairs = pairs.filter(pl.col("place") <= n)
    by_place = np.full((len(user_rows), n), -1, dtype=np.int32)
    by_place[pairs["row"].to_numpy(), pairs["place"].to_numpy() - 1] = pairs["code"].to_numpy()
    return by_place


def _pairs_known(known: InteractionMatrix, users: np.ndarray, items: np.ndarray) -> np.ndarray:
    """Which pairs of rows stand in a matrix: bool (n,)."""
    n_items = known.shape[1]
    cells = known.user_rows.astype(np.int64) * n_items + known.indices
    wanted = users.astype(np.int64) * n_items + items
    at = np.minimum(np.searchsorted(cells, wanted), max(len(cells) - 1, 0))
    return (items >= 0) & (cells[at] == wanted) if len(cells) else np.zeros(len(items), dtype=bool)
