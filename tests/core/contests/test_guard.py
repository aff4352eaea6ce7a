"""The guard of a refresh: which rows judge, and what they say of two models, against plain Python."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
import polars as pl
import pytest

from gleaner.core.contests.guard import Guard, GuardTask, decided_by, judge, rows_since
from gleaner.core.contests.listening import ProgressStretch, QuietListener
from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.fitted import Fitted
from gleaner.core.metrics.catalogue import MetricReference
from gleaner.core.models.baselines.popularity import Popular
from gleaner.core.preparation.recipe import Preparation

NOBODY = ProgressStretch(QuietListener())
START = datetime(2026, 1, 1, tzinfo=UTC)
N_USERS, N_ITEMS, K = 90, 8, 2


def world() -> list[tuple[int, int, int]]:
    """(user, item, minute): item i is taken up by so many users before, the other way round later."""
    random = np.random.default_rng(1)
    rows = []
    for item in range(N_ITEMS):
        rows += [(int(user), item) for user in random.permutation(N_USERS)[: 3 + 2 * item]]
    early = [(user, item, minute) for minute, (user, item) in enumerate(rows[i] for i in random.permutation(len(rows)))]
    early_pairs = {(user, item) for user, item, _ in early}
    later = [
        (u, i) for i in range(N_ITEMS) for u in random.permutation(N_USERS)[: 88 - 12 * i] if (u, i) not in early_pairs
    ]
    order = random.permutation(len(later))
    return early + [(int(later[i][0]), later[i][1], 100_000 + minute) for minute, i in enumerate(order)]


def as_rows(cells: list[tuple[int, int, int]]) -> InteractionRows:
    frame = pl.DataFrame(
        {
            "user": pl.Series([user for user, _, _ in cells], dtype=pl.UInt32),
            "item": pl.Series([item for _, item, _ in cells], dtype=pl.UInt32),
            "time": pl.Series([START + timedelta(minutes=m) for _, _, m in cells], dtype=pl.Datetime("us", "UTC")),
        }
    )
    users, items = (IdMap([f"{letter}{n}" for n in range(count)]) for letter, count in (("u", N_USERS), ("i", N_ITEMS)))
    return InteractionRows(frame, users, items)


def popular(train: InteractionMatrix) -> Popular:
    return Popular().fit(train)


def matrix(cells) -> InteractionMatrix:
    rows = as_rows(cells)
    user, item = (rows.frame[name].to_numpy().astype(np.int32) for name in ("user", "item"))
    return InteractionMatrix.from_cells(user, item, np.ones(len(user)), rows.users, rows.items)


def recall_by_hand(counts: Counter, excluded: set, held_out: dict[int, set]) -> float:
    """excluded: the pairs that are no candidates."""
    result = []
    for user, wanted in held_out.items():
        ranked = sorted((i for i in range(N_ITEMS) if (user, i) not in excluded), key=lambda i: -counts[i])[:K]
        result.append(len(wanted & set(ranked)) / len(wanted))
    return float(np.mean(result))


def parts(cells):
    early = [cell for cell in cells if cell[2] < 100_000]
    fresh = sorted(cells[len(early) :], key=lambda cell: cell[2])
    half = len(fresh) // 2
    return early, early + fresh[:half], fresh[half:]


@pytest.fixture(scope="module")
def judged():
    cells = world()
    early, learned, held_out = parts(cells)
    rows, guard = as_rows(cells), Guard(MetricReference.parse(f"recall@{K}"), least_users=5)
    since = rows_since(rows, Preparation(), START + timedelta(minutes=early[-1][2]), 0.5)
    assert (since.learned, since.held_out) == (len(learned) - len(early), len(held_out))
    train = matrix(early)
    return cells, rows, since, Fitted("old@1", popular(train), train), guard


def wanted_of(held_out, seen: set, excluded: set) -> dict[int, set]:
    """What each user, known by what was seen, took up of the candidates."""
    wanted: dict[int, set] = {}
    known = {user for user, _ in seen}
    for user, item, _ in held_out:
        if user in known and (user, item) not in excluded:
            wanted.setdefault(user, set()).add(item)
    return wanted


def test_both_are_judged_by_rows_that_neither_saw(judged):
    cells, rows, since, current, guard = judged
    early, learned, held_out = parts(cells)
    seen = {(user, item) for user, item, _ in learned}
    wanted = wanted_of(held_out, seen, seen)
    counts = [Counter(item for _, item, _ in part) for part in (early, learned)]
    assert all(len(set(each.values())) == N_ITEMS for each in counts), "ties would be told apart by a hash"
    verdict = judge(GuardTask(current, rows, Preparation(), since, popular), guard, NOBODY)
    assert verdict.users == len(wanted)
    assert verdict.figures["current"].mean == pytest.approx(recall_by_hand(counts[0], seen, wanted))
    assert verdict.figures["new"].mean == pytest.approx(recall_by_hand(counts[1], seen, wanted))
    assert verdict.figures["new"].mean > verdict.figures["current"].mean
    assert verdict.difference.mean == pytest.approx(verdict.figures["new"].mean - verdict.figures["current"].mean)
    assert verdict.passed


def test_what_lists_had_shown_neither_judges_nor_is_a_candidate(judged):
    cells, rows, since, current, guard = judged
    early, learned, held_out = parts(cells)
    seen = {(user, item) for user, item, _ in learned}
    random = np.random.default_rng(2)
    # none to three items; and one that training never saw
    shown = {
        (user, int(i)) for user in range(N_USERS) for i in random.permutation(N_ITEMS)[: (user % 3) * 2 - user % 2]
    }
    users_asked_for: list[str] = []

    def shown_to(users):
        users_asked_for.extend(users)
        return [(f"u{user}", f"i{item}") for user, item in shown if f"u{user}" in set(users)] + [(users[0], "new")]

    wanted, whole = wanted_of(held_out, seen, seen | shown), wanted_of(held_out, seen, seen)
    counts = [Counter(item for _, item, _ in part) for part in (early, learned)]
    verdict = judge(GuardTask(current, rows, Preparation(), since, popular, shown_to), guard, NOBODY)
    assert sorted(users_asked_for) == sorted(f"u{user}" for user in whole)
    assert verdict.users == len(wanted) < len(whole)
    assert verdict.prompted == sum(map(len, whole.values())) - sum(map(len, wanted.values()))
    assert f"less {verdict.prompted} pairs that lists had shown" in verdict.reason
    assert verdict.figures["current"].mean == pytest.approx(recall_by_hand(counts[0], seen | shown, wanted))
    assert verdict.figures["new"].mean == pytest.approx(recall_by_hand(counts[1], seen | shown, wanted))
    every = {(user, item) for user in range(N_USERS) for item in range(N_ITEMS)}
    shown |= every
    verdict = judge(GuardTask(current, rows, Preparation(), since, popular, shown_to), guard, NOBODY)
    assert (verdict.users, verdict.passed) == (0, False)
    assert verdict.reason == "0 users have rows that no list prompted, and the guard wants 5"


def test_a_worse_model_passes_only_within_what_is_allowed(judged):
    _, rows, since, current, guard = judged
    # what is served lists rare items first, which is what came; the new one does the opposite
    current.model.scores_ = np.arange(N_ITEMS, 0, -1).astype(np.float32)

    def contrary(train: InteractionMatrix) -> Popular:
        model = popular(train)
        model.scores_ = -model.scores_
        return model

    def outcome(margin: float):
        how = replace(guard, worse_by=margin)
        return judge(GuardTask(current, rows, Preparation(), since, contrary), how, NOBODY)

    strict = outcome(0.0)
    assert strict.figures["new"].mean < strict.figures["current"].mean
    assert (strict.passed, "the guard wants at least" in strict.reason) == (False, True)
    allowed = 1 - strict.figures["new"].mean / strict.figures["current"].mean
    assert (outcome(allowed + 1e-6).passed, outcome(allowed - 1e-6).passed) == (True, False)


def test_the_interval_can_decide_instead_of_the_means():
    def decided(certainty, difference, worse_by=0.1):
        guard = Guard(MetricReference.parse("ndcg@10"), worse_by, certainty)
        return decided_by(guard, 0.5, difference)

    # a loss of 0.05 is allowed: below it by the mean, not surely, not surely not
    unsure = (-0.06, -0.10, -0.02)
    assert decided("by_mean", unsure) == (False, "the guard wants at least 0.4500")
    assert decided("to_refuse", unsure) == (True, "a loss of more than 0.0500 is not shown")
    assert decided("to_publish", unsure) == (False, "a loss of more than 0.0500 is not ruled out")
    assert decided("by_mean", (-0.04, -0.09, 0.01)) == (True, "at least 0.4500 was wanted")
    assert decided("to_publish", (-0.01, -0.04, 0.02)) == (True, "a loss of more than 0.0500 is ruled out")
    assert decided("to_refuse", (-0.09, -0.12, -0.06)) == (False, "a loss of more than 0.0500 is shown")
    assert decided("to_publish", (0.01, -0.001, 0.02), worse_by=0) == (False, "a loss is not ruled out")


def test_a_judged_model_is_decided_by_what_the_file_says(judged):
    _, rows, since, current, guard = judged

    def outcome(certainty: str):
        how = replace(guard, certainty=certainty)
        return judge(GuardTask(current, rows, Preparation(), since, popular), how, NOBODY)

    actual = {certainty: outcome(certainty) for certainty in ("by_mean", "to_refuse", "to_publish")}
    allowed = -guard.worse_by * actual["by_mean"].figures["current"].mean
    gap = actual["by_mean"].difference
    assert {name: each.passed for name, each in actual.items()} == {
        "by_mean": gap.mean >= allowed, "to_refuse": gap.high >= allowed, "to_publish": gap.low >= allowed,
    }  # fmt: skip
    assert actual["to_publish"].reason.endswith("ruled out")


def test_too_few_to_judge_by_publishes_nothing(judged):
    cells, rows, since, current, guard = judged
    many = replace(guard, least_users=N_USERS + 1)
    verdict = judge(GuardTask(current, rows, Preparation(), since, popular), many, NOBODY)
    assert (verdict.passed, verdict.figures) == (False, {})
    assert f"and the guard wants {N_USERS + 1}" in verdict.reason
    newest = START + timedelta(minutes=max(minute for _, _, minute in cells))
    assert rows_since(rows, Preparation(), newest, 0.5) is None
    verdict = judge(GuardTask(current, rows, Preparation(), None, popular), guard, NOBODY)
    assert (verdict.passed, "fewer than two rows with a time are newer than those of old@1" in verdict.reason) == (
        False,
        True,
    )
