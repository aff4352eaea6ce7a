"""Choose a contender of a run for release: by the deciding metric, or by that and something it is weighed against."""

from __future__ import annotations

from typing import Literal

from sqlalchemy import Connection

from gleaner.core.contests.choice import Candidate, WeighedCandidate, best_in_level, level_with, weighed
from gleaner.core.errors import ConflictError, InputError, near
from gleaner.core.metrics.catalogue import better_sign
from gleaner.core.models.base.registry import family
from gleaner.service.http.state import Service
from gleaner.store import contests, models
from gleaner.store.files.per_user import read_metric
from gleaner.store.records.contests import RunRecord, StandingRecord
from gleaner.wire.contests.choosing import Choice, ChoicePoint, ReleaseRequest
from gleaner.wire.models.training import TrainRequest
from gleaner.wire.names import plain_name

COSTS = {"fit_seconds": "seconds of fitting", "list_ms": "ms a list", "peak_memory_mb": "MB"}
Part = Literal["validation", "test"]


def choose(service: Service, connection: Connection, name: str, against: str | None) -> Choice:
    """The best on validation; weighed against something, the best in that of all that cannot be told from the best.

    Raises UnknownNameError, InputError, ConflictError while the run has not ended.
    """
    run, digests = contests.files_of_run(connection, name)
    if run.winner is None:
        raise ConflictError(f"{run.name} is {run.state}: there is no winner yet", where="run")
    possible = [each for each in run.spec.rank.names() if better_sign(each)] + list(COSTS)
    if against is not None and against not in possible:
        raise InputError(f"against must be one of {', '.join(possible)}, not {against!r}", where="against")
    winner = next(each for each in run.standings if each.contender == run.winner)
    part: Part = "validation" if winner.figure(run.decide_by, "validation") else "test"
    level = _level(service, run, digests, part)
    ranked, sign = _points(run, part, against, level), _sign(against)
    chosen = best_in_level(ranked, sign, run.winner) if against else run.winner
    models = {each.contender: each.model for each in run.standings}
    points = [
        ChoicePoint(
            contender=each.candidate.label,
            model=models[each.candidate.label],
            figure=each.candidate.figure,
            against=each.candidate.against,
            on_frontier=each.on_frontier,
            level=each.level,
        )
        for each in ranked
    ]
    return Choice(
        run=run.name,
        metric=run.decide_by,
        against=against,
        against_less_is_better=sign < 0,
        part=part,
        chosen=chosen,
        model=models[chosen],
        why=_reason(run, part, against, chosen, points),
        points=points,
    )


def _level(service: Service, run: RunRecord, digests: dict[str, str], part: Part) -> set[str]:
    """The winner and all that cannot be told from it, worked out once however it is weighed."""
    assert run.winner is not None
    winner, by, seed = run.winner, run.decide_by, run.spec.seed

    def work_out() -> set[str]:
        paths = {label: service.artefacts.local_path(digest) for label, digest in digests.items()}
        return level_with(winner, read_metric(paths, by, part), better_sign(by), seed)

    return service.figures.once(("level", run.name, tuple(digests.items()), winner, part), work_out)


def _points(run: RunRecord, part: Part, against: str | None, level: set[str]) -> list[WeighedCandidate]:
    candidates = [
        Candidate(standing.contender, figure.mean, _weighed(standing, against, part))
        for standing in run.standings
        if (figure := standing.figure(run.decide_by, part)) is not None
    ]
    return weighed(candidates, level, better_sign(run.decide_by), _sign(against))


def _sign(against: str | None) -> int:
    """1 where more is better, -1 where less is; 0 of nothing."""
    return -1 if against in COSTS else better_sign(against) if against else 0


def _weighed(standing: StandingRecord, against: str | None, part: Part) -> float | None:
    if against is None:
        return None
    if against in COSTS:
        value: float | None = getattr(standing, against)
        return value
    figure = standing.figure(against, part)
    return figure.mean if figure else None


def _reason(run: RunRecord, part: Part, against: str | None, chosen: str, points: list[ChoicePoint]) -> str:
    level = [point.contender for point in points if point.level and point.contender != run.winner]
    same = f"cannot be told from {', '.join(level)} there" if level else "differs there from all others beyond chance"
    text = f"{run.winner} is best on {run.decide_by} of the {part} part and {same}."
    if against is None:
        return text
    named = COSTS.get(against, against)
    best = next(point for point in points if point.contender == chosen)
    if best.against is None:
        return f"{text} No contender has a figure of {named}."
    if not level:
        return f"{text} Nothing else comes into question, whatever its {named}."
    return f"{text} Of these, {chosen} has the best {named}: {best.against:.4g}."


def request_of(service: Service, connection: Connection, name: str, request: ReleaseRequest) -> TrainRequest:
    """The fit for release. Raises UnknownNameError, InputError, ConflictError."""
    run = contests.get(connection, name)
    label = request.contender or choose(service, connection, name, request.against).chosen
    standing = next((each for each in run.standings if each.contender == label), None)
    if standing is None or standing.model is None:
        has = near(label, [each.contender for each in run.standings])
        raise InputError(f"{run.name} has no contender {label!r} that is done{has}", where="contender")
    data = request.data or run.data
    return TrainRequest(
        data=data,
        like=standing.model,
        confirm=request.confirm,
        name=request.name,
        fallback_like=_fallback_of(connection, run, label, data),
    )


def _fallback_of(connection: Connection, run: RunRecord, label: str, data: str) -> str | None:
    """Return the run's model that ranks the same for everyone, unless it is the one to release or all rows have one."""
    for standing in run.standings:
        is_other = standing.contender != label and standing.model is not None
        if is_other and not family(standing.family).personal:
            name = plain_name(str(standing.model))
            return None if models.fitted_on_all(connection, name, data) else standing.model
    return None
