"""Says in words which rows a model was fitted on, and by what."""

from __future__ import annotations

from gleaner.store.records.models import ModelRecord

ROWS = {
    "everything": "all rows of {data}",
    "training": "the training part of {data}",
    "training and validation": "the training and validation parts of {data}",
}


def provenance_of(record: ModelRecord) -> str:
    """Return, for example, "all rows of seeds@2, with the settings of first-look.als@1"."""
    fitted_on, _, scored = record.trained_on.partition("; ")
    rows = ROWS.get(fitted_on, fitted_on + " of {data}").format(data=record.data)
    return ", ".join(part for part in (rows, scored, _fitted_by(record)) if part)


def _fitted_by(record: ModelRecord) -> str:
    origin, parent = record.story.origin, record.story.parent
    if record.run:
        return f"in contest run {record.run}"
    if origin == "refresh":
        return f"continued from {parent}"
    if origin == "import":
        return "imported"
    return f"with the settings of {parent}" if parent else "trained without a contest"
