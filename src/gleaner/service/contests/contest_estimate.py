"""A contest file looked at without running it, and what running it will take."""

from __future__ import annotations

from collections.abc import Mapping

from sqlalchemy import Connection

from gleaner.core.parallel import default_threads
from gleaner.core.tuning.space import settled, space_of
from gleaner.service.contests.contest_check import looked_at
from gleaner.service.contests.pruning import pruning_of
from gleaner.service.http.documents import Document
from gleaner.service.http.state import Service
from gleaner.service.models.training import STARTED_S, estimated
from gleaner.settings import Settings
from gleaner.store import datasets
from gleaner.store.records.datasets import VersionRecord
from gleaner.wire.contests.contest import ContenderSpec, ContestSpec, SplitSpec
from gleaner.wire.contests.runs import ContenderEstimate, ContestCheck
from gleaner.wire.models.training import TrainRequest

SCORED_PER_S = 2.5e8
"""User-item pairs one core scores and scans a second, about."""


def check(document: Document, connection: Connection, service: Service, files: Mapping[str, str]) -> ContestCheck:
    """Every mistake, or an estimate. Raises FieldsError for a file that is no YAML mapping."""
    spec, version, problems = looked_at(document, connection, files)
    if problems or spec is None or version is None:
        return ContestCheck(problems=problems, data=version.name if version else None)
    fits, scorings = _rounds(spec.split)
    scoring = version.users * version.items / SCORED_PER_S / default_threads()
    estimates = [
        _estimate(connection, service.settings, spec, version, contender, fits, scorings * scoring)
        for contender in spec.contenders
    ]
    version_files = datasets.files(connection, version.name)
    interactions = service.artefacts.local_path(version_files.interactions_file)
    return ContestCheck(
        problems=[],
        pruning=pruning_of(spec, interactions, version.profile.rows),
        data=version.name,
        contenders=estimates,
        seconds=STARTED_S + sum(each.seconds for each in estimates),
        memory_mb=max(each.memory_mb for each in estimates),
    )


def _rounds(split: SplitSpec) -> tuple[int, int]:
    """Fits and scorings of one contender."""
    parts = 2 if split.validation > 0 else 1
    return (split.folds * parts + 1, split.folds * parts) if split.by == "folds" else (parts, parts)


def _estimate(
    connection: Connection,
    settings: Settings,
    spec: ContestSpec,
    version: VersionRecord,
    contender: ContenderSpec,
    fits: int,
    scoring: float,
) -> ContenderEstimate:
    params = settled(contender.family, contender.params)
    request = TrainRequest(
        data=version.name, family=contender.family, params=params, prepare=spec.prepare_of(contender)
    )
    one = estimated(connection, request, settings)
    fit_seconds = one.seconds - STARTED_S
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
    return ContenderEstimate(
        contender=contender.label,
        family=contender.family,
        fits=fits,
        seconds=seconds,
        memory_mb=one.memory_mb,
    )
