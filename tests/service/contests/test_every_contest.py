"""Whatever `check` accepts runs: every metric, alone and with others, on every split, of weights and of values."""

from __future__ import annotations

import io
import itertools
import math

import numpy as np
import polars as pl
import pyarrow.parquet as pq
import pytest

from gleaner.client import RefusedError, calls, contest_calls
from gleaner.core.contests.contest import Contest
from gleaner.core.contests.engine import run_contest
from gleaner.core.contests.listening import QuietListener
from gleaner.core.contests.parts import divide
from gleaner.core.contests.results import ContenderResult
from gleaner.core.contests.side_tables import SideTables, TableFrames
from gleaner.core.data.rows import InteractionRows
from gleaner.core.metrics.catalogue import METRICS
from gleaner.jobs.contests.declarations import plan_of, preparation_of, relevance_of, split_of
from gleaner.service.http.documents import Document
from gleaner.wire.contests.contest import ContestSpec, FileRequest
from stack import Stack

SPLITS = {
    "time": "{by: time, test: 0.2, validation: 0.2}",
    "rows": "{by: rows, test: 0.2, validation: 0.2}",
    "user_rows": "{by: user_rows, test: 0.2, validation: 0.2}",
    "last": "{by: last, test: 1, validation: 1}",
    "users": "{by: users, test: 0.2, validation: 0.2}",
    "items": "{by: items, test: 0.2, validation: 0.2}",
    "kept": "{by: time, test: 0.2, validation: 0.2, keep: [users, items]}",
    "folds": "{by: folds, folds: 2}",
    "given": "{by: given}",
    "no validation": "{by: time, test: 0.2, validation: 0}",
}
FEEDBACK = {
    "weights": ("use: weights", "[item_knn]"),
    "values": ("use: values", "[mean_value, {als_values: {rank: 2, iterations: 2}}]"),
    "kinds": ("kinds: {a: 1, b: 2}", "[{als: {rank: 2, iterations: 2}}, {logistic: {rank: 2, iterations: 2}}]"),
}
SORTS = {
    "one list": ["recall"], "order": ["auc"], "whole": ["gini", "coverage"], "neither": ["ndcg", "popularity"],
    "chances": ["ndcg", "brier", "log_loss"], "values": ["rmse", "mae", "r2"], "a value": ["r2"], "values and lists": ["ndcg", "rmse"],
}  # fmt: skip

ALSO_AS_A_JOB = 16
"""One contest in so many is run by a worker: what jobs add is the same for all of them."""

ITEMS = "item,family\n" + "".join(f"i{n},{('pea', 'bean')[n % 2]}\n" for n in range(25))


def world_rows(seed: int = 1) -> str:
    """A small world: 40 users, 25 items, values from 1 to 5, two kinds, times, and parts as files split beforehand."""
    drawn = np.random.default_rng(seed)
    lines = ["user,item,value,kind,time"]
    for user in range(40):
        for item in drawn.choice(25, 8, replace=False):
            day = f"2026-01-{drawn.integers(1, 29):02}T00:00:00Z"
            lines.append(f"u{user},i{item},{drawn.integers(1, 6)},{'ab'[drawn.integers(2)]},{day}")
    return "\n".join(lines) + "\n"


@pytest.fixture(scope="module")
def world(stack: Stack) -> Stack:
    stack.add("every", world_rows(), items=ITEMS)
    import_parts(stack)
    return stack


def import_parts(stack: Stack) -> None:
    from gleaner.wire.imports import GivenParts, ImportRequest
    from stack import ROLES

    header, *body = world_rows().splitlines()
    # of the eight rows of each user six, one and one
    texts = {
        "training": [line for place, line in enumerate(body) if place % 8 < 6],
        "validation": body[6::8],
        "test": body[7::8],
    }
    sources = {part: stack.send_text("\n".join([header, *lines]), f"{part}.csv") for part, lines in texts.items()}
    request = ImportRequest(parts=GivenParts(**sources), items=stack.send_text(ITEMS, "items.csv"), roles=ROLES)
    stack.client.wait(stack.client.send(calls.import_version("every-parts", request)).id)


def combinations() -> list[tuple[tuple[str, ...], str, str]]:
    """Every metric alone, splits and feedback by turns; every sort of metrics on every split, feedback by turns."""
    splits, feedback = itertools.cycle(SPLITS), itertools.cycle(FEEDBACK)
    result = [((name,), next(splits), next(feedback)) for name in METRICS]
    result += [((name,), next(splits), "values") for name, metric in METRICS.items() if metric.needs == "values"]
    result += [(tuple(names), split, next(feedback)) for names in SORTS.values() for split in SPLITS]
    result += [(tuple(SORTS["chances"]), split, "kinds") for split in SPLITS]
    result += [(tuple(names), split, "values") for key, names in SORTS.items() if "value" in key for split in SPLITS]
    return list(dict.fromkeys(result))


def rows_of(stack: Stack, dataset: str) -> InteractionRows:
    """The rows of a dataset's first version, as a job reads them."""
    return InteractionRows.from_arrow(
        pq.read_table(io.BytesIO(stack.client.send(calls.table_file(dataset, 1, "interactions"))))
    )


def run_here(text: str, rows: InteractionRows) -> list[ContenderResult]:
    """The contest of a file, run by the engine in this process: as a job would, without a job's start."""
    spec = Document(text, "every.yaml").read(ContestSpec)
    rule = split_of(spec.split, spec.seed)
    parts = divide(rows, preparation_of(spec.prepare), rule, lambda done, text: None, relevance_of(spec.rank))
    items = pl.read_csv(io.StringIO(ITEMS)).rename({"item": "id"})
    tables, listener = SideTables(lambda: TableFrames(items=items)), QuietListener()
    run_contest(Contest.of(plan_of(spec), parts, tables, listener))
    return listener.results


def test_whatever_check_accepts_runs(world):
    ran: list[str] = []
    waiting = []
    rows = {name: rows_of(world, name) for name in ("every", "every-parts")}
    for place, (metrics, split, feedback) in enumerate(combinations()):
        prepare, contenders = FEEDBACK[feedback]
        text = (
            f"contest: every\ndata: {'every-parts' if split == 'given' else 'every'}@1\nprepare: {{{prepare}}}\n"
            f"split: {SPLITS[split]}\n"
            f"rank: {{at: [3], metrics: [{', '.join(metrics)}], content: [family], categories: family}}\n"
            f"contenders: {contenders}\n"
        )
        body = FileRequest(file=text, name="every.yaml")
        label = f"{', '.join(metrics)} on {split} of {feedback}"
        if world.client.send(contest_calls.check_contest(body)).problems:
            # what check refuses run refuses too, in the same words
            with pytest.raises(RefusedError):
                world.client.send(calls.run_contest(body))
            continue
        if place % ALSO_AS_A_JOB:
            results = run_here(text, rows["every-parts" if split == "given" else "every"])
            figures = [(each.metric, each.interval.mean) for result in results for each in result.figures]
            ran.append(judged(label, metrics, figures))
            if set(metrics) & {"brier", "log_loss"} and feedback == "kinds":
                assert {"brier", "log_loss"} <= {name for name, _ in figures}, label
        else:
            waiting.append((label, metrics, world.client.send(calls.run_contest(body))))
    for label, metrics, queued in waiting:
        job = ended(world, queued.job)
        assert job.state == "done", f"{label}: {job.problem}"
        run = world.client.send(calls.run(queued.name))
        figures = [(figure.metric, figure.mean) for each in run.standings for figure in each.figures]
        ran.append(judged(label, metrics, figures))
    assert len(ran) > 50
    assert {name for name in METRICS if any(name in label for label in ran)} == set(METRICS)
    assert {split for split in SPLITS if any(f"on {split} of" in label for label in ran)} == set(SPLITS)


def judged(label: str, metrics: tuple[str, ...], figures: list[tuple[str, float]]) -> str:
    """The label, where figures are those that were asked for, and numbers."""
    output = {metric.partition("@")[0] for metric, _ in figures}
    assert output <= set(metrics), label
    assert output, label
    assert all(math.isfinite(mean) for _, mean in figures), label
    return label


def ended(stack: Stack, job: int):
    for _ in stack.client.follow(job):
        pass
    return stack.client.send(calls.job(job))
