"""What there is to say of a family, read from its class: by the docs, the API, the command line and the library."""

from __future__ import annotations

from dataclasses import dataclass

from gleaner.core.models.base.capabilities import (
    Explains,
    FoldsInItems,
    HasFactors,
    PredictsValues,
    Refreshable,
    folding,
    taking_features,
)
from gleaner.core.models.base.context import TakesContext
from gleaner.core.models.base.parameters import ParameterFacts, parameters_of
from gleaner.core.models.base.protocol import Feedback, Model


@dataclass(frozen=True)
class FamilyFacts:
    """One family. cost: of a fit, in words; unfit: what it is not for; the flags: what it adopts."""

    family: str
    feedback: Feedback
    summary: str
    source: str
    unfit: str
    cost: str
    personal: bool
    predicts_values: bool
    takes_features: bool
    needs_features: bool
    takes_context: bool
    folds_in: bool
    folds_in_items: bool
    has_factors: bool
    explains: bool
    refreshes: bool
    parameters: list[ParameterFacts]

    @classmethod
    def of(cls, family: type[Model]) -> FamilyFacts:
        """The facts of a class: where models of a family differ, those of one with the defaults."""
        model = family()
        takes = taking_features(model)
        return cls(
            family=family.family,
            feedback=family.feedback,
            summary=family.summary,
            source=family.source,
            unfit=family.unfit,
            cost=family.effort,
            personal=family.personal,
            predicts_values=issubclass(family, PredictsValues),
            takes_features=takes is not None,
            needs_features=takes is not None and takes.needs_features,
            takes_context=issubclass(family, TakesContext),
            folds_in=folding(model) is not None,
            folds_in_items=issubclass(family, FoldsInItems),
            has_factors=issubclass(family, HasFactors),
            explains=issubclass(family, Explains),
            refreshes=issubclass(family, Refreshable),
            parameters=parameters_of(family),
        )
