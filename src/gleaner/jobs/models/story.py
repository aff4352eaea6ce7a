"""How a model came to be, as it is kept with it."""

from __future__ import annotations

import math
from dataclasses import asdict
from typing import Any

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.models.base.capabilities import importance_of
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.watching import TrainingRound, Watch
from gleaner.core.models.neural.machinery.network_parts import network_of
from gleaner.store.records.models import Story
from gleaner.wire.models.training import Round

KEPT_ROUNDS = 1000
KEPT_INPUTS = 100


def story_of(model: Model, watch: Watch, train: InteractionMatrix, columns: dict[str, list[str]], **more: Any) -> Story:
    """The story of a fit: what was reported of it, the scale of its values, the columns that were looked at, what each
    input says, and whatever else is given."""
    return Story(
        columns={where: names for where, names in columns.items() if names},
        importance={name: round(share, 6) for name, share in list(importance_of(model).items())[:KEPT_INPUTS]},
        scale=train.scale,
        rounds=[round_message(each).model_dump(mode="json") for each in watch.rounds[:KEPT_ROUNDS]],
        best_iteration=watch.best,
        warnings=watch.warnings,
        network=[asdict(part) for part in network_of(model)],
        chosen=model.chosen(),
        **more,
    )


def round_message(done: TrainingRound) -> Round:
    """A round; a loss that is no number is null."""
    plain = asdict(done)
    plain["losses"] = {name: value if math.isfinite(value) else None for name, value in done.losses.items()}
    return Round(**plain)
