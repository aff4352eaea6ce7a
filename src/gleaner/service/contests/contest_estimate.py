"""A contest file looked at without running it, and what running it will take."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from sqlalchemy import Connection

from gleaner.core.parallel import default_threads
from gleaner.core.tuning.space import settled, space_of
from gleaner.service.contests.contest_check import looked_at
from gleaner.service.contests.pruning import pruning_of
from gleaner.service.expected_time import ExpectedTime, expected_time
from gleaner.service.http.documents import Document
from gleaner.service.http.state import Service
from gleaner.service.models.training import STARTED_S, counted_seconds, estimated
from gleaner.settings import Settings
from gleaner.store import contests, datasets
from gleaner.store.records.datasets import VersionRecord
from gleaner.wire.contests.contest import ContenderSpec, ContestSpec, SplitSpec
from gleaner.wire.contests.runs import ContenderEstimate, ContestCheck
from gleaner.wire.models.training import TrainRequest

SCORED_PER_S = 2.5e8
"""User-item pairs one core scores and scans a second, about."""
LAST = 12
"""Contenders of a family, and of any, whose times correct an estimate: the newest, for machines and releases change."""


def check(document: Document, connection: Connection, service: Service, files: Mapping[str, str]) -> ContestCheck:
    """Return every mistake, or an estimate. Raises FieldsError for a file that is no YAML mapping."""
    spec, version, problems = looked_at(document, connection, files)
    if problems or spec is None or version is None:
        return ContestCheck(problems=problems, data=version.name if version else None)
    counted = counted_work(connection, service.settings, spec, version)
    expected = expected_times(connection, counted)
    whole = sum(expected.values(), ExpectedTime(STARTED_S, STARTED_S, STARTED_S))
    version_files = datasets.files(connection, version.name)
    interactions = service.artefacts.local_path(version_files.interactions_file)
    return ContestCheck(
        problems=[],
        pruning=pruning_of(spec, interactions, version.profile.rows),
        data=version.name,
        contenders=[_message(each, expected[each.contender]) for each in counted],
        seconds=whole.seconds,
        seconds_low=whole.low,
        seconds_high=whole.high,
        memory_mb=max(each.memory_mb for each in counted),
        based_on=_based_on(connection),
    )


@dataclass(frozen=True)
class ContenderWork:
    """Time and memory of one contender by its count of operations alone, all its fits and scorings together."""

    contender: str
    family: str
    fits: int
    seconds: float
    memory_mb: float


def counted_work(
    connection: Connection, settings: Settings, spec: ContestSpec, version: VersionRecord
) -> list[ContenderWork]:
    """Return what each contender takes, before what earlier work took corrects it."""
    fits, scorings = _rounds(spec.split)
    scoring = scorings * version.users * version.items / SCORED_PER_S / default_threads()
    return [_work(connection, settings, spec, version, contender, fits, scoring) for contender in spec.contenders]


def expected_times(connection: Connection, counted: list[ContenderWork]) -> dict[str, ExpectedTime]:
    """Return the expected time of each contender, from what the last contenders of its family and of any took here."""
    taken = [(family, took / seconds) for family, seconds, took in contests.times_taken(connection)]
    of_all = [ratio for _, ratio in taken]
    return {
        each.contender: expected_time(
            each.seconds, [ratio for family, ratio in taken if family == each.family][:LAST], of_all[:LAST]
        )
        for each in counted
    }


def recorded_times(counted: list[ContenderWork], expected: dict[str, ExpectedTime]) -> dict[str, dict[str, float]]:
    """Return what is recorded with a run, so that later estimates learn from it."""
    return {each.contender: {"counted": each.seconds, "expected": expected[each.contender].seconds} for each in counted}


def _message(counted: ContenderWork, expected: ExpectedTime) -> ContenderEstimate:
    return ContenderEstimate(
        contender=counted.contender,
        family=counted.family,
        fits=counted.fits,
        seconds=expected.seconds,
        seconds_low=expected.low,
        seconds_high=expected.high,
        memory_mb=counted.memory_mb,
    )


def _based_on(connection: Connection) -> str:
    if not contests.times_taken(connection):
        return "the methods' counts of operations; no contest has run here yet"
    last = f"the last {LAST} contenders of a family, and of any,"
    return f"the methods' counts of operations, corrected by what {last} took here"


def _rounds(split: SplitSpec) -> tuple[int, int]:
    """Fits and scorings of one contender."""
    parts = 2 if split.validation > 0 else 1
    return (split.folds * parts + 1, split.folds * parts) if split.by == "folds" else (parts, parts)


def _work(
    connection: Connection,
    settings: Settings,
    spec: ContestSpec,
    version: VersionRecord,
    contender: ContenderSpec,
    fits: int,
    scoring: float,
) -> ContenderWork:
    params = settled(contender.family, contender.params)
    request = TrainRequest(
        data=version.name, family=contender.family, params=params, prepare=spec.prepare_of(contender)
    )
    one = estimated(connection, request, settings)
    fit_seconds = counted_seconds(request, (version.users, version.items), version.rows)
    seconds = fits * fit_seconds + scoring
    if contender.tuned and contender.ablates is None:
        how = spec.tune_of(contender)
        n = int(min(how.attempts, space_of(contender.family, contender.params).size))
        tuning = n * (fit_seconds + scoring / max(1, fits))
        seconds += min(tuning, 60 * how.minutes + fit_seconds) if how.minutes else tuning
        fits += n
    curves = spec.curves.amounts if spec.split.validation else []
    seconds += sum(curves) * fit_seconds + len(curves) * scoring / max(1, fits)
    fits += len(curves)
    return ContenderWork(contender.label, contender.family, fits, seconds, one.memory_mb)
