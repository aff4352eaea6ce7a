"""Top-N lists as tables, with ids in the places of rows."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import polars as pl

from gleaner.core.data.ids import IdMap
from gleaner.core.ranking.topn import Lists


def table_of_lists(owners: Sequence[str], lists: Lists, owner: str, listed: str, ids: IdMap) -> pl.DataFrame:
    """One row per filled place of several lists: columns named by `owner` and `listed`, position and score. ids: of
    what is listed."""
    kept = lists.items >= 0
    list_row, place = np.nonzero(kept)
    return pl.DataFrame(
        {
            owner: pl.Series(owners, dtype=pl.String).gather(list_row),
            "position": (place + 1).astype(np.int32),
            listed: pl.Series(ids.take(lists.items[kept]), dtype=pl.String),
            "score": lists.scores[kept],
        }
    )


def table_of_list(lists: Lists, listed: str, ids: IdMap, score: str = "score") -> pl.DataFrame:
    """One row per place of a single list: position, a column named by `listed`, and one named by `score`."""
    return pl.DataFrame(
        {
            "position": np.arange(1, len(lists.items) + 1, dtype=np.int32),
            listed: pl.Series(ids.take(lists.items), dtype=pl.String),
            score: lists.scores,
        }
    )
