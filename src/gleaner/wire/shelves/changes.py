"""Models that a new version of a shelf would change."""

from __future__ import annotations

from pydantic import Field, computed_field

from gleaner.wire.common import Message


class ModelChange(Message):
    """One model of a shelf that publishing would replace, add or remove, compared with what is served."""

    role: str = Field(description="candidates, score or fallback.")
    before: str | None = Field(description="The model that is served; null if it is added.")
    after: str | None = Field(description="The model that would be served; null if it is removed.")
    metric: str | None = Field(None, description="The deciding metric of the contest that the figures are from.")
    before_figure: float | None = None
    after_figure: float | None = None
    before_trained_on: str | None = Field(None, description="everything: all rows; else the training part only.")
    after_trained_on: str | None = None

    @computed_field  # type: ignore[prop-decorator]
    @property
    def text(self) -> str:
        """The change in one sentence."""
        old = _described(self.before, self.before_figure, self.metric, self.before_trained_on)
        new = _described(self.after, self.after_figure, self.metric, self.after_trained_on)
        return f"{self.role}: {old} to {new}"


def _described(name: str | None, figure: float | None, metric: str | None, trained_on: str | None) -> str:
    if name is None:
        return "no model"
    rows = "fitted on all rows" if (trained_on or "").startswith("everything") else "fitted on the training part only"
    return f"{name} ({rows})" if figure is None else f"{name} ({metric} {figure:.4f}, {rows})"
