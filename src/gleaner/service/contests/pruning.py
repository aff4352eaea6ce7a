"""What the preparation of a contest prunes, and how the users and items it prunes will be served."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from gleaner.core.errors import GleanerError
from gleaner.core.models.base.capabilities import folding
from gleaner.core.models.base.registry import build
from gleaner.core.preparation.pruning import Pruned, count_pruned
from gleaner.jobs.contests.declarations import preparation_of
from gleaner.store.files.interactions import read_rows
from gleaner.wire.contests.contest import ContestSpec, PrepareSpec
from gleaner.wire.contests.runs import Pruning

MAX_ROWS = 5_000_000
"""Rows of a version up to which a check counts what is pruned: about two seconds."""


def pruning_of(spec: ContestSpec, interactions: Path, n_rows: int) -> Pruning | None:
    """Return what pruning removes from all rows of a version, or None if nothing is pruned.

    Versions of more than MAX_ROWS rows are not counted.
    """
    prepare = spec.prepare
    if prepare.min_user == 1 and prepare.min_item == 1 and prepare.drop_users_over is None:
        return None
    served = _served(spec)
    if n_rows > MAX_ROWS:
        return Pruning(text=f"pruned users and items are counted when the contest runs; {served}")
    pruned = _counted(interactions, prepare.model_dump_json())
    if not pruned.users and not pruned.items:
        return None
    text = (
        f"pruning removes {pruned.users:,} of {pruned.users_of:,} users and {pruned.items:,} of {pruned.items_of:,} "
        f"items, with {pruned.rows:,} of {pruned.rows_of:,} rows; {served}"
    )
    return Pruning(users=pruned.users, items=pruned.items, rows=pruned.rows, text=text)


@lru_cache(maxsize=64)
def _counted(interactions: Path, prepare: str) -> Pruned:
    """Count once for each file, whose name is its hash, and each preparation."""
    how = preparation_of(PrepareSpec.model_validate_json(prepare))
    return count_pruned(read_rows(interactions), how)


def _served(spec: ContestSpec) -> str:
    """Return how pruned users and items are served by the contenders, as the end of a sentence."""
    able, unable = list[str](), list[str]()
    for contender in spec.contenders:
        try:
            model = build(contender.family, contender.params)
        except GleanerError:
            continue
        if model.personal:
            (able if folding(model) is not None else unable).append(contender.label)
    parts = []
    if able:
        parts.append(f"a shelf folds such users in with {', '.join(able)}")
    if unable:
        parts.append(f"with {', '.join(unable)} they get the fallback")
    users = " and ".join(parts) or "such users get what everyone gets"
    return f"{users}; such items are listed only with `new_items` in the shelf's file"
