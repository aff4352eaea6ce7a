"""Registered models."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Any


@dataclass(frozen=True)
class Story:
    """How a model came to be, as far as its contest does not say. columns: those that it looked at, by the parameter
    that names them. importance: the share of each input of one that weighs them. likelihood:
    how its chances were calibrated and what they were worth, of one that has any, the fields of LikelihoodFacts.
    network: the parts of one that is a network, the fields of NetworkPart. chosen: parameters that were left to the
    fit, and what it chose."""

    origin: str = "contest"
    data: str = ""
    content_hash: str = ""
    prepare: dict[str, Any] = field(default_factory=dict)
    split: dict[str, Any] = field(default_factory=dict)
    fit_seconds: float = 0.0
    final_seconds: float = 0.0
    peak_memory_mb: float = 0.0
    scale: tuple[float, float] | None = None
    parent: str | None = None
    note: str | None = None
    rounds: list[dict[str, Any]] = field(default_factory=list)
    best_iteration: int | None = None
    warnings: list[str] = field(default_factory=list)
    columns: dict[str, list[str]] = field(default_factory=dict)
    importance: dict[str, float] = field(default_factory=dict)
    likelihood: dict[str, Any] | None = None
    network: list[dict[str, Any]] = field(default_factory=list)
    chosen: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True, kw_only=True)
class ModelRecord:
    """One registered model. data: the version it was trained on, or where that was elsewhere, its name there. run: the
    contest's run it came from. figures: means of the test part by metric. prepare, split, fit_seconds, peak_memory_mb:
    of its contest where it came from one, else of its story."""

    name: str
    family: str
    params: dict[str, Any]
    data: str
    run: str | None
    users: int
    items: int
    cells: int
    created_at: datetime
    decided_by: str | None
    figures: dict[str, float]
    content_hash: str
    prepare: dict[str, Any]
    split: dict[str, Any]
    trained_on: str
    code_version: str
    fit_seconds: float
    peak_memory_mb: float
    state_sha256: str
    matrix_sha256: str
    story: Story


@dataclass(frozen=True, kw_only=True)
class RoundRecord:
    """One iteration of a fit within a job. part: what it was fitted for: validation, test, everything. seconds: since
    the fit began. losses: None where one is no longer a number."""

    contender: str
    part: str
    iteration: int
    seconds: float
    losses: dict[str, float | None]
    metrics: dict[str, float]
