"""The worst condition of a request: what the grammar allows, tried one construct after another, under the budget."""

from __future__ import annotations

import contextlib
import gc
from time import perf_counter, process_time

import numpy as np
import polars as pl

from bench.catalogue_entries import ITEMS
from bench.measure import Bar, Result, seconds_of
from gleaner.core.errors import InputError
from gleaner.core.ranking.conditions.condition import Condition, Masks
from gleaner.core.ranking.conditions.operands import Schema
from gleaner.core.ranking.conditions.tree import Budget
from gleaner.core.ranking.conditions.values import Bindings
from gleaner.serving.conditions import REQUEST_S

MOST_MS = 100.0
TURNS = 3
USUAL = "stock > 5 AND family = 'pea'"


def worst(size: str) -> Result:
    """Seconds from the text to the mask or the refusal, the longest of all constructs, beside a usual condition."""
    table = _catalogue(ITEMS[size])
    # as a serving process does, so that no turn pays for looking through everything that was imported
    gc.freeze()
    schema = Schema(dict(table.schema), {"zone": pl.String()}, ["view"])
    took = {name: _seconds(text, schema, table) for name, text in _hard()}
    refused = sum(not _ask(text, schema, table) for _, text in _hard())
    slowest = sorted(took, key=lambda name: -took[name])[:3]
    usual = _seconds(USUAL, schema, table)
    output = ", ".join(f"{name} {1000 * took[name]:.0f} ms" for name in slowest)
    note = f"{ITEMS[size]:,} items, {len(took)} constructs, {refused} refused; slowest: {output}"
    most = took[slowest[0]]
    bar = Bar(also=f"all within {MOST_MS:g} ms", also_holds=1000 * most < MOST_MS)
    return Result("the worst condition", most, 0.0, f"`{USUAL}`", usual, note, bar)


def _seconds(text: str, schema: Schema, table: pl.DataFrame) -> float:
    """The slowest of some turns: what a caller may count on is the worst."""
    return max(seconds_of(lambda: _ask(text, schema, table)) for _ in range(TURNS))


def _ask(text: str, schema: Schema, table: pl.DataFrame) -> bool:
    """As a request is worked out: parsed, then its mask, all on one budget. Answers whether it was not refused."""
    budget = Budget(REQUEST_S, perf_counter, process_time)
    with contextlib.suppress(InputError):
        Masks(Condition(text, schema), table, budget).allowed(Bindings(), budget=budget)
        return True
    return False


def _catalogue(n: int) -> pl.DataFrame:
    drawn = np.random.default_rng(1)
    return pl.DataFrame(
        {
            "id": [f"v-{k}" for k in range(n)],
            "stock": drawn.integers(0, 100, n),
            "price": drawn.random(n),
            "family": drawn.choice(["pea", "bean", "beet"], n),
            "name": [f"a long name of a variety {k}" for k in range(n)],
            "surplus": drawn.random(n) < 0.5,
            "traits": [["a", "b"]] * n,
        }
    )


def _hard() -> list[tuple[str, str]]:
    """Each construct about as often as the bounds of length, columns, values and wildcards let it stand."""
    likes = " OR ".join(f"name LIKE '%{k}%_%_%q'" for k in range(95))
    sums = " OR ".join("+".join("price" for _ in range(45)) + ">1" for _ in range(4))
    return [
        ("IN of 400", f"stock IN ({','.join('1' for _ in range(400))})"),
        ("IN of 1,900", f"stock IN ({','.join(str(k % 10) for k in range(1900))})"),
        ("INs", " OR ".join(f"stock IN ({k},{k + 1})" for k in range(60))),
        ("flags by OR", " OR ".join("surplus" for _ in range(195))),
        ("tests by OR", " OR ".join(f"stock>{k}" for k in range(95))),
        ("tests by AND", " AND ".join(f"stock<{999 + k}" for k in range(95))),
        ("NOTs", "NOT " * 900 + "surplus"),
        ("parentheses", "(" * 45 + "surplus" + ")" * 45),
        ("a pattern", "name LIKE '%" + "_%" * 9 + "z'"),
        ("patterns", likes),
        ("a sum", "+".join("stock" for _ in range(50)) + ">1"),
        ("sums", sums),
        ("lists", " OR ".join("'c' IN traits" for _ in range(95))),
        ("texts compared", " OR ".join(f"name > 'a long name {k}'" for k in range(95))),
    ]
