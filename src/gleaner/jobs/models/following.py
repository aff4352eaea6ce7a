"""A fit within a job: progress as the job's, rounds as rows, what was told kept with the model."""

from __future__ import annotations

import math
import time
from dataclasses import asdict
from typing import Any

from gleaner.core.models.base import watching
from gleaner.core.models.base.watching import Held, Judge, Watch
from gleaner.jobs.worker.context import ProgressPart
from gleaner.store import models
from gleaner.wire.models import Round, WatchSpec

KEPT_ROUNDS = 1000


def follow(
    part: ProgressPart,
    label: str,
    goal: str,
    judge: Judge | None = None,
    how: WatchSpec | None = None,
    held: Held | None = None,
) -> Watch:
    """A watch that tells the job: each round with its losses, and progress within it."""
    context, last = part.context, [""]

    def progress(done: float, iteration: int) -> bool:
        text = f"{label}: fitting for {goal}, iteration {iteration}{last[0]}"
        return context.tell(part.start + (part.stop - part.start) * done, text)

    def heard(done: watching.TrainingRound) -> None:
        figures = [f"{name} loss {value:.4g}" for name, value in done.losses.items()]
        figures += [f"{name} {value:.4f}" for name, value in done.metrics.items()]
        last[0] = f" ({', '.join(figures)})" if figures else ""
        with context.engine.begin() as connection:
            models.add_round(connection, context.claim.id, label, goal, as_round(done))

    how = how or WatchSpec()
    if context.claim.attempt > 1:
        with context.engine.begin() as connection:
            models.drop_rounds(connection, context.claim.id, label, goal)
    return Watch(
        held=held,
        progress=progress,
        judge=judge,
        decide_by=how.metric,
        lower_is_better=how.metric == "rmse",
        every=how.every,
        patience=how.patience if judge else 0,
        heard=heard,
        clock=time.perf_counter,
    )


def as_round(done: watching.TrainingRound) -> Round:
    """A round as a message; a loss that is no number is null."""
    plain = asdict(done)
    plain["losses"] = {name: value if math.isfinite(value) else None for name, value in done.losses.items()}
    return Round(**plain)


def told(watch: Watch) -> dict[str, Any]:
    """What a watch heard, for a model's story."""
    return {
        "rounds": [as_round(each).model_dump(mode="json") for each in watch.rounds[:KEPT_ROUNDS]],
        "best_iteration": watch.best,
        "warnings": watch.warnings,
    }
