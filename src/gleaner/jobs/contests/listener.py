"""A job as the listener of a contest: attempts and contenders are kept at once, each in one transaction."""

from __future__ import annotations

import time
from dataclasses import asdict, dataclass, field

from gleaner import __version__
from gleaner.core.contests.parts import ContestParts
from gleaner.core.contests.results import ContenderResult, TuningAttempt
from gleaner.jobs.contests.messages import amount_points, attempt_message, kept_attempt, standing_of
from gleaner.jobs.models.listener import JobFitListener
from gleaner.jobs.models.story import story_of
from gleaner.store import contests, jobs, models
from gleaner.store.contests import RunPlan
from gleaner.store.files.artefacts import Artefact
from gleaner.store.files.models import keep_matrix


@dataclass(eq=False)
class JobContestListener(JobFitListener):
    """Keeps what a run finds. plan: the run as recorded. parts: what its models are fitted on."""

    plan: RunPlan
    parts: ContestParts
    _matrices: dict[str, Artefact] = field(default_factory=dict)
    _kept_at: float = field(default_factory=time.monotonic)
    """When the contender before was kept, or the first began."""

    def attempts(self, label: str) -> list[TuningAttempt]:
        """The attempts of a contender that are kept already."""
        with self.context.engine.begin() as connection:
            return [kept_attempt(each) for each in contests.attempts_of(connection, self.plan.id, label)]

    def keep_attempt(self, label: str, done: TuningAttempt) -> None:
        """Keep one more."""
        with self.context.engine.begin() as connection:
            jobs.require_current(connection, self.context.claim)
            contests.add_attempt(connection, self.plan.id, label, attempt_message(done))

    def keep(self, result: ContenderResult) -> None:
        """Keep standing, figures and model in one transaction."""
        context, plan, label = self.context, self.plan, result.contender.label
        path = context.staging / f"{label}.parquet"
        result.per_user.write_parquet(path, compression="zstd")
        users_file = context.artefacts.put(path, "parquet")
        state = context.artefacts.put_arrays(result.model.state(), context.staging)
        matrix = self._matrix_of(result)
        prepare = next(each.prepare for each in plan.spec.contenders if each.label == label)
        standing = standing_of(result, prepare)
        elapsed = time.monotonic() - self._kept_at if context.claim.attempt == 1 else None
        with context.engine.begin() as connection:
            jobs.require_current(connection, context.claim)
            standing_id = contests.add_standing(
                connection, plan.id, standing, amount_points(result), users_file, elapsed
            )
            new = models.NewModel(
                name=f"{plan.spec.contest}.{label}",
                standing_id=standing_id,
                version_id=plan.version_id,
                family=standing.family,
                params=standing.params,
                trained_on=trained_on(self.parts),
                code_version=__version__,
                shape=result.train.shape,
                cells=result.train.n_cells,
                state=state,
                matrix=matrix,
                story=story_of(
                    result.model,
                    result.watch,
                    result.train,
                    result.columns,
                    final_seconds=result.final_seconds,
                    likelihood=None if result.likelihood is None else asdict(result.likelihood),
                ),
            )
            name = models.add(connection, new)
            figure = standing.figure(plan.spec.rank.decide_by)
            if figure is not None:
                jobs.log(connection, context.claim.id, f"{name}: {figure.metric} {figure.mean:.4f} on the test part")
        self._kept_at = time.monotonic()

    def _matrix_of(self, result: ContenderResult) -> Artefact:
        """The matrix that a model stands on: kept once for all, and once for each with its own preparation."""
        name = "" if result.train is self.parts.final else result.contender.label
        if name not in self._matrices:
            self._matrices[name] = keep_matrix(self.context.artefacts, result.train, self.context.staging)
        return self._matrices[name]


def trained_on(parts: ContestParts) -> str:
    """What the models that are kept were fitted on, in words."""
    if parts.whole is not None:
        scored = "folds" if parts.stages[0].fold is not None else "a part of it"
        return f"everything; scored on {scored}"
    return "training" if parts.validation is None else "training and validation"
