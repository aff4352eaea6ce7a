"""What a run tried: attempts of tuned contenders, learning curves."""

from __future__ import annotations

from sqlalchemy import Connection

from gleaner.core.metrics.catalogue import better_sign
from gleaner.store import contests, models
from gleaner.wire.tuning import LearningCurve, Tuning


def tunings(connection: Connection, name: str) -> list[Tuning]:
    """The search of every tuned contender, as far as it has come. Raises NotFoundError."""
    run = contests.get(connection, name)
    run_id = contests.id_of(connection, run)
    results = {standing.contender: standing.tuning for standing in run.standings}
    return [
        Tuning(
            contender=each.label,
            metric=run.decide_by,
            less_is_better=better_sign(run.decide_by) < 0,
            ranges={key: value for key, value in each.params.items() if isinstance(value, dict)},
            attempts=contests.attempts_of(connection, run_id, each.label),
            result=results.get(each.label),
        )
        for each in run.spec.contenders
        if each.tuned and each.ablates is None
    ]


def curves(connection: Connection, name: str) -> list[LearningCurve]:
    """Learning curves by iteration and by amount of data, as far as they have come. Raises NotFoundError."""
    run = contests.get(connection, name)
    amounts = contests.amounts_of(connection, contests.id_of(connection, run))
    rounds = [each for each in models.rounds_of(connection, run.job) if each.part == "validation"]
    found = []
    for each in run.spec.contenders:
        mine = [each_round for each_round in rounds if each_round.contender == each.label]
        points = amounts.get(each.label, [])
        if mine or points:
            found.append(LearningCurve(contender=each.label, metric=run.decide_by, rounds=mine, amounts=points))
    return found
