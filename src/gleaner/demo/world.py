"""Growers, varieties and what each would like: the ground truth behind the events.

Affinity of grower u for variety i is a plain product of two vectors: latent tastes, climate zone against zone range,
interests against traits, plot size against habit, and a popularity term. The vectors hold multiples of 1/64, so the
product is a whole number of 1/4096 and comes out the same on every machine, in whatever order it is summed.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np
import polars as pl

from gleaner.core.errors import require_range
from gleaner.demo import words

GRID = 64
SCALE = GRID * GRID
LATENT = 10
FIRST_DAY = date(2024, 3, 1)
DAYS = 900
MISSING_SHARE = 0.06


@dataclass(frozen=True)
class Sizes:
    """How large a world to make."""

    users: int
    items: int
    interactions: int
    seed: int

    def __post_init__(self) -> None:
        require_range("users", self.users, 2, 5_000_000, whole=True)
        require_range("items", self.items, 2, 1_000_000, whole=True)
        require_range("interactions", self.interactions, 1, 500_000_000, whole=True)
        require_range("seed", self.seed, 0, 2**31 - 1, whole=True)


@dataclass(frozen=True, eq=False)
class World:
    """The tables growers and varieties as the exchange knows them, and the truth it does not know.

    user_vectors float32 (n_users, d), item_vectors float32 (n_items, d): affinity is their product over SCALE.
    activity float64 (n_users,): expected share of events. joined, added int32: days since FIRST_DAY.
    strictness float64 (n_users,): what a grower takes off every rating. season float64 (n_items, 12).
    """

    users: pl.DataFrame
    items: pl.DataFrame
    user_vectors: np.ndarray
    item_vectors: np.ndarray
    activity: np.ndarray
    joined: np.ndarray
    added: np.ndarray
    strictness: np.ndarray
    season: np.ndarray


def make_world(sizes: Sizes) -> World:
    """Draw growers and varieties from the seed."""
    random = np.random.Generator(np.random.PCG64(sizes.seed))
    n_users, n_items = sizes.users, sizes.items
    zone = random.integers(0, len(words.ZONES), n_users)
    interests = random.random((n_users, len(words.INTERESTS))) < 0.25
    plot = random.choice(len(words.PLOT_SIZES), n_users, p=[0.12, 0.2, 0.33, 0.27, 0.08])
    family = random.integers(0, len(words.FAMILIES), n_items)
    traits = random.random((n_items, len(words.TRAITS))) < 0.16
    zone_from = random.integers(0, 4, n_items)
    zone_to = np.minimum(zone_from + random.integers(1, 5, n_items), len(words.ZONES) - 1)
    tastes, looks = _latent(random, n_users, family)
    in_range = (np.arange(len(words.ZONES)) >= zone_from[:, None]) & (np.arange(len(words.ZONES)) <= zone_to[:, None])
    wanted = random.normal(0, 1, (len(words.INTERESTS), len(words.TRAITS)))
    room = random.normal(0, 1, (len(words.PLOT_SIZES), len(words.TRAITS)))
    fame = np.clip(random.gumbel(-0.4, 0.75, n_items), -1.6, 3.2)
    user_parts = [
        tastes,
        np.eye(len(words.ZONES))[zone],
        0.45 * (interests @ wanted) + 0.4 * room[plot],
        np.ones((n_users, 1)),
    ]
    item_parts = [looks, 0.9 * in_range - 0.9, traits, fame[:, None]]
    sow_from = random.integers(0, 8, n_items)
    sow_length = random.integers(2, 5, n_items)
    added = np.where(random.random(n_items) < 0.7, 0, random.integers(0, DAYS - 60, n_items)).astype(np.int32)
    experience = np.minimum(random.geometric(0.16, n_users) - 1, 40)
    return World(
        users=_user_table(random, zone, plot, experience, interests),
        items=_item_table(random, family, traits, zone_from, zone_to, sow_from, sow_length, added),
        user_vectors=_on_grid(np.hstack(user_parts)),
        item_vectors=_on_grid(np.hstack(item_parts)),
        activity=random.lognormal(0, 1.0, n_users),
        joined=np.where(random.random(n_users) < 0.5, 0, random.integers(0, DAYS - 30, n_users)).astype(np.int32),
        added=added,
        strictness=random.normal(0.2, 0.5, n_users),
        season=_season(sow_from, sow_length),
    )


def _latent(random: np.random.Generator, n_users: int, family: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Tastes of growers, and looks of varieties, which gather around their family's."""
    tastes = random.normal(0, 1, (n_users, LATENT))
    centres = random.normal(0, 0.3, (len(words.FAMILIES), LATENT))
    return tastes, centres[family] + random.normal(0, 0.26, (len(family), LATENT))


def _on_grid(vectors: np.ndarray) -> np.ndarray:
    return np.clip(np.round(vectors * GRID), -4 * GRID, 4 * GRID).astype(np.float32)


def _season(sow_from: np.ndarray, sow_length: np.ndarray) -> np.ndarray:
    """Interest by month: full while it is sown and in the two months before, a third otherwise."""
    ahead = (np.arange(12) - sow_from[:, None] + 2) % 12
    return np.where(ahead < sow_length[:, None] + 2, 1.0, 0.35)


def _blank(random: np.random.Generator, column: pl.Series, share: float = MISSING_SHARE) -> pl.Series:
    """Leave some cells empty, as people do."""
    return column.zip_with(
        pl.Series(random.random(len(column)) >= share), pl.Series([None] * len(column), dtype=column.dtype)
    )


def _joined_words(flags: np.ndarray, names: tuple[str, ...]) -> pl.Series:
    return pl.Series(["|".join(names[i] for i in np.flatnonzero(row)) or None for row in flags], dtype=pl.String)


def _user_table(
    random: np.random.Generator,
    zone: np.ndarray,
    plot: np.ndarray,
    experience: np.ndarray,
    interests: np.ndarray,
) -> pl.DataFrame:
    width = max(4, len(str(len(zone))))
    return pl.DataFrame(
        {
            "grower": [f"g-{number:0{width}d}" for number in range(1, len(zone) + 1)],
            "zone": _blank(random, pl.Series([words.ZONES[z] for z in zone])),
            "plot": _blank(random, pl.Series([words.PLOT_SIZES[p] for p in plot])),
            "experience_years": _blank(random, pl.Series(experience, dtype=pl.Int64), 0.12),
            "interests": _joined_words(interests, words.INTERESTS),
        }
    )


def _item_table(
    random: np.random.Generator,
    family: np.ndarray,
    traits: np.ndarray,
    zone_from: np.ndarray,
    zone_to: np.ndarray,
    sow_from: np.ndarray,
    sow_length: np.ndarray,
    added: np.ndarray,
) -> pl.DataFrame:
    n = len(family)
    width = max(4, len(str(n)))
    families = [words.FAMILIES[f] for f in family]
    first, second = random.integers(0, len(words.FIRST), n), random.integers(0, len(words.SECOND), n)
    sentence = random.integers(0, len(words.SENTENCES), n)
    trait_names = [[words.TRAITS[t] for t in np.flatnonzero(row)] for row in traits]
    months = [
        "|".join(str((start + ahead) % 12 + 1) for ahead in range(length))
        for start, length in zip(sow_from, sow_length, strict=True)
    ]
    stock = np.where(random.random(n) < 0.08, 0, random.geometric(0.03, n))
    return pl.DataFrame(
        {
            "variety": [f"v-{number:0{width}d}" for number in range(1, n + 1)],
            "name": [
                f"{words.FIRST[a]} {words.SECOND[b]} {name.title()}"
                for a, b, name in zip(first, second, families, strict=True)
            ],
            "family": families,
            "traits": pl.Series(["|".join(names) or None for names in trait_names], dtype=pl.String),
            "sowing_months": months,
            "days_to_harvest": _blank(random, pl.Series(random.integers(35, 180, n), dtype=pl.Int64)),
            "zone_from": [words.ZONES[z] for z in zone_from],
            "zone_to": [words.ZONES[z] for z in zone_to],
            "credits": random.integers(1, 9, n),
            "stock": stock,
            "surplus": [str(bool(flag)).lower() for flag in (stock > 60) & (random.random(n) < 0.6)],
            "added_on": [str(FIRST_DAY + timedelta(days=int(day))) for day in added],
            "description": _blank(
                random,
                pl.Series(
                    words.SENTENCES[s].format(trait=names[0] if names else "sturdy", family=name)
                    for s, names, name in zip(sentence, trait_names, families, strict=True)
                ),
            ),
        }
    )
