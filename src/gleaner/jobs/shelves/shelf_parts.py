"""A shelf with all that it names, for a job that fits its models."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import Connection

from gleaner.core.errors import InputError
from gleaner.store import models, shelves
from gleaner.store.records.contests import RunRecord, StandingRecord
from gleaner.store.records.models import ModelRecord
from gleaner.wire.contests.contest import SplitSpec
from gleaner.wire.names import plain_name
from gleaner.wire.shelves.shelf import ShelfSpec

UNFIT_SPLITS = {
    "folds": "folds make several test parts",
    "users": "its users are new to training",
    "items": "what is held out are items that shelves do not list",
}


@dataclass(frozen=True, eq=False)
class ShelfParts:
    """A shelf with all that it names: shelves that it lists from, and models by the names that are used. of_run: the
    standings of those that the run it is compared with fitted, on just what its test part leaves. judged_later: whether
    the test part comes after what they learn from."""

    label: str
    spec: ShelfSpec
    others: dict[str, ShelfSpec]
    models: dict[str, ModelRecord]
    of_run: dict[str, StandingRecord]
    judged_later: bool

    @classmethod
    def of(cls, connection: Connection, spec: ShelfSpec, run: RunRecord) -> ShelfParts:
        """Look up what a shelf names: a contender of the run by its label, or a model. Raises UnknownNameError, and
        InputError for models of other data."""
        by_label = {each.contender: each for each in run.standings if each.model is not None}
        by_model = {each.model or "": each for each in by_label.values()}
        others: dict[str, ShelfSpec] = {}
        waiting, named = [spec], dict[str, ModelRecord]()
        while waiting:
            each = waiting.pop()
            for name in each.models():
                mine = by_label.get(name)
                reference = None if mine is None else mine.model
                named[name] = models.get(connection, reference or name)
            for inner in (source.shelf for source in each.candidates):
                if inner is not None and inner not in others:
                    others[inner] = shelves.get(connection, inner).spec
                    waiting.append(others[inner])
        for name, model in named.items():
            if plain_name(model.data) != plain_name(run.data):
                text = f"{model.name} was trained on {model.data}, and {run.name} is about {run.data}"
                raise InputError(text, where=f"model {name}")
        of_run = {name: by_model[model.name] for name, model in named.items() if model.name in by_model}
        later = all(part.leak is None or part.leak.early_rows == 0 for part in run.parts)
        return cls(f"shelf {spec.shelf}", spec, others, named, of_run, later or run.spec.split.by == "last")

    def records(self) -> list[ModelRecord]:
        """Every model once."""
        return list({each.name: each for each in self.models.values()}.values())


def require_known_users(split: SplitSpec, what: str, where: str) -> None:
    """Raise InputError for a split whose test part is not one of users and items that training knows."""
    if split.by in UNFIT_SPLITS:
        text = f"{what} is split by {split.by}: {UNFIT_SPLITS[split.by]}"
        raise InputError(text, where=where)
