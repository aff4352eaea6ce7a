"""Events of a world: views, some of which become saves and requests, some of which are grown and rated."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import numpy as np
import polars as pl

from gleaner.core.parallel import Progress, default_threads, even_ranges, run_ranges
from gleaner.demo import kernels
from gleaner.demo.world import DAYS, FIRST_DAY, SCALE, Sizes, World

EVENTS_PER_VIEW = 1.6
"""Events that follow from one view, itself included, less those past the last day: about what demo-like worlds have."""

SURPLUS = (1.06, 1.7)
"""How many times the views expected are drawn: first the one, and where they gave too few events the other."""

KINDS = ("view", "save", "request", "grown")
BLOCK_SCORES = 4_000_000


def make_events(world: World, sizes: Sizes, progress: Progress | None = None) -> pl.DataFrame:
    """Exactly `sizes.interactions` events in time order: grower, variety, kind, at (UTC), value (grown only).

    Every save and request has its view, and every rating its request. Every draw depends on the seed and its own place
    only, so the number of threads does not matter.
    """
    for surplus in SURPLUS:
        n_views = int(sizes.interactions / EVENTS_PER_VIEW * surplus) + 64
        events = _draw_events(world, n_views, sizes.seed, progress)
        if events.height >= sizes.interactions:
            break
    return _in_words(_thin_to(events, sizes).sort("day", "user", "item", "kind"), world)


def _draw_events(world: World, n_views: int, seed: int, progress: Progress | None) -> pl.DataFrame:
    """Views and what follows from them: columns chain (which view), user, item, kind, day, value."""
    user, item, affinity = _draw_views(world, n_views, seed, progress)
    day = _draw_days(world, user, item, seed)
    chance = _Chance(seed, n_views)
    keen = 1 / (1 + np.exp(-(affinity.astype(np.float64) - 1.2)))
    saved = chance.unit() < 0.42 * keen
    requested = chance.unit() < np.where(saved, 0.62, 0.22) * keen
    grown = requested & (chance.unit() < 0.5)
    requested_on = day + 0.03 + 2.5 * chance.unit()
    parts = [
        _part("view", user, item, day),
        _part("save", user, item, day + 0.02 * chance.unit(), saved),
        _part("request", user, item, requested_on, requested),
        _part("grown", user, item, requested_on + 55 + 70 * chance.unit(), grown),
    ]
    luck = 1.4 * (chance.unit() + chance.unit() + chance.unit() - 1.5)
    rating = 2.3 + 0.55 * affinity - world.strictness[user] + luck
    parts[3] = parts[3].with_columns(value=pl.Series(np.clip(np.round(rating[grown]), 1, 5)))
    return pl.concat(parts, how="diagonal").filter(pl.col("day") < DAYS)


class _Chance:
    """One stream of uniform numbers per call, each a function of (seed, call, row)."""

    def __init__(self, seed: int, n: int) -> None:
        self.random = np.random.Generator(np.random.PCG64([seed, 7]))
        self.n = n

    def unit(self) -> np.ndarray:
        """float64 (n,) in [0, 1)."""
        return self.random.random(self.n)


def _draw_views(
    world: World, n_views: int, seed: int, progress: Progress | None
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    share = np.cumsum(world.activity) / world.activity.sum()
    bounds = np.concatenate([[0], np.round(share * n_views)]).astype(np.int64)
    items = np.empty(n_views, dtype=np.int32)
    affinity = np.empty(n_views, dtype=np.float32)
    span = kernels.TABLE_SPAN * SCALE
    table = np.round(np.exp(np.arange(-span, span + 1) / SCALE) * 4096).astype(np.int64)

    def work(lo: int, hi: int) -> None:
        block = world.user_vectors[lo:hi] @ world.item_vectors.T
        kernels.draw_items(block, lo, bounds, table, float(SCALE), seed, items, affinity)

    n_users, n_items = len(world.user_vectors), len(world.item_vectors)
    rows = max(1, min(BLOCK_SCORES // n_items, -(-n_users // default_threads())))
    run_ranges(work, even_ranges(n_users, rows), progress=progress)
    return np.repeat(np.arange(n_users, dtype=np.int32), np.diff(bounds)), items, affinity


def _draw_days(world: World, user: np.ndarray, item: np.ndarray, seed: int) -> np.ndarray:
    days = np.empty(len(user))
    months = np.array([(FIRST_DAY + timedelta(days=day)).month - 1 for day in range(DAYS)], dtype=np.int8)

    def work(lo: int, hi: int) -> None:
        kernels.draw_times(lo, hi, user, item, world.joined, world.added, world.season, months, DAYS, seed + 101, days)

    run_ranges(work, even_ranges(len(user), 1 << 18))
    return days


def _part(
    kind: str, user: np.ndarray, item: np.ndarray, day: np.ndarray, mask: np.ndarray | None = None
) -> pl.DataFrame:
    chosen = slice(None) if mask is None else mask
    return pl.DataFrame(
        {
            "chain": np.arange(len(user), dtype=np.int32)[chosen],
            "user": user[chosen],
            "item": item[chosen],
            "kind": pl.Series(np.full(len(user[chosen]), KINDS.index(kind), dtype=np.uint8)),
            "day": day[chosen],
        }
    )


def _thin_to(events: pl.DataFrame, sizes: Sizes) -> pl.DataFrame:
    """Keep views at random, each with all that follows from it, until exactly the number asked for is reached.

    The last place or two, where a whole chain would be too many, go to bare views.
    """
    chain = events["chain"].to_numpy()
    lengths = np.bincount(chain)
    order = np.random.Generator(np.random.PCG64([sizes.seed, 11])).permutation(len(lengths))
    reached = np.cumsum(lengths[order])
    n_whole = int(np.searchsorted(reached, sizes.interactions, side="right"))
    missing = sizes.interactions - int(reached[n_whole - 1] if n_whole else 0)
    whole, bare = np.zeros(len(lengths), dtype=bool), np.zeros(len(lengths), dtype=bool)
    whole[order[:n_whole]] = True
    bare[order[n_whole : n_whole + missing]] = True
    is_view = events["kind"].to_numpy() == KINDS.index("view")
    return events.filter(pl.Series(whole[chain] | (bare[chain] & is_view)))


def _in_words(events: pl.DataFrame, world: World) -> pl.DataFrame:
    start = datetime(FIRST_DAY.year, FIRST_DAY.month, FIRST_DAY.day, tzinfo=UTC)
    second = (pl.col("day") * 86_400).floor().cast(pl.Int64)
    ids = {"grower": ("user", world.users["grower"]), "variety": ("item", world.items["variety"])}
    value = pl.col("value") if "value" in events.columns else pl.lit(None, dtype=pl.Float64)
    return events.select(
        **{name: ids[name][1].gather(events[ids[name][0]]) for name in ids},
        kind=pl.Series(KINDS).gather(events["kind"]),
        at=pl.from_epoch(pl.lit(int(start.timestamp())) + second, time_unit="s"),
        value=value.cast(pl.Int8),
    )
