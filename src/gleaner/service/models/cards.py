"""Cards of models: what the store keeps of one, and the facts of its family."""

from __future__ import annotations

from gleaner.core.models.base.facts import FamilyFacts
from gleaner.core.models.base.registry import family
from gleaner.service.models.provenance import provenance_of
from gleaner.store.records.models import ModelRecord
from gleaner.wire.models.cards import Likelihood, ModelCard, ModelSummary, NetworkPiece
from gleaner.wire.models.training import Round


def card_of(record: ModelRecord) -> ModelCard:
    """A model's card."""
    facts, story = FamilyFacts.of(family(record.family)), record.story
    return ModelCard(
        **{name: getattr(record, name) for name in ModelSummary.model_fields},
        content_hash=record.content_hash,
        prepare=record.prepare,
        split=record.split,
        trained_on=record.trained_on,
        seed=record.params.get("seed"),
        code_version=record.code_version,
        fit_seconds=record.fit_seconds,
        peak_memory_mb=record.peak_memory_mb,
        summary=facts.summary,
        feedback=facts.feedback,
        folds_in=facts.folds_in,
        folds_in_items=facts.folds_in_items,
        predicts_values=facts.predicts_values,
        has_factors=facts.has_factors and record.params.get("rank", 0) > 0,
        unfit=facts.unfit,
        source=facts.source,
        scale=story.scale,
        origin=story.origin,
        parent=story.parent,
        provenance=provenance_of(record),
        note=story.note,
        rounds=[Round.model_validate(each) for each in story.rounds],
        best_iteration=story.best_iteration,
        warnings=story.warnings,
        columns=story.columns,
        importance=story.importance,
        chosen=story.chosen,
        network=[NetworkPiece.model_validate(each) for each in story.network],
        likelihood=None if story.likelihood is None else Likelihood.model_validate(story.likelihood),
        state_sha256=record.state_sha256,
        matrix_sha256=record.matrix_sha256,
    )
