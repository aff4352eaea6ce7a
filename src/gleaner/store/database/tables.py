"""Every table. Migrations create them; a test checks that both agree."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    DateTime,
    Double,
    ForeignKey,
    Identity,
    Index,
    Integer,
    MetaData,
    Sequence,
    Table,
    Text,
    UniqueConstraint,
    func,
    text,
)
from sqlalchemy.dialects.postgresql import ARRAY, JSON

metadata = MetaData(
    naming_convention={
        "pk": "pk_%(table_name)s",
        "fk": "fk_%(table_name)s_%(column_0_name)s",
        "uq": "uq_%(table_name)s_%(column_0_N_name)s",
        "ix": "ix_%(table_name)s_%(column_0_N_name)s",
    }
)


def _id() -> Column[int]:
    return Column("id", BigInteger, Identity(), primary_key=True)


def _created() -> Column[datetime]:
    return Column("created_at", DateTime(timezone=True), nullable=False, server_default=func.now())


jobs = Table(
    "jobs",
    metadata,
    _id(),
    Column("kind", Text, nullable=False),
    Column("subject", Text, nullable=False),
    Column("payload", JSON, nullable=False),
    Column("state", Text, nullable=False, index=True),
    Column("progress", Double, nullable=False, server_default="0"),
    Column("message", Text, nullable=False, server_default=""),
    Column("attempt", Integer, nullable=False, server_default="0"),
    Column("losses", Integer, nullable=False, server_default="0"),
    Column("cancel_requested", Boolean, nullable=False, server_default="false"),
    Column("result", JSON),
    Column("problem", JSON),
    Column("peak_memory_mb", Double),
    Column("traceparent", Text),
    _created(),
    Column("started_at", DateTime(timezone=True)),
    Column("finished_at", DateTime(timezone=True)),
)

job_log = Table(
    "job_log",
    metadata,
    _id(),
    Column("job_id", ForeignKey("jobs.id", ondelete="CASCADE"), nullable=False, index=True),
    Column("at", DateTime(timezone=True), nullable=False, server_default=func.clock_timestamp()),
    Column("text", Text, nullable=False),
)

artefacts = Table(
    "artefacts",
    metadata,
    Column("sha256", Text, primary_key=True),
    Column("bytes", BigInteger, nullable=False),
    Column("format", Text, nullable=False),
    _created(),
)


def _artefact(name: str, *, required: bool = True) -> Column[str]:
    return Column(name, ForeignKey("artefacts.sha256"), nullable=not required)


job_files = Table(
    "job_files",
    metadata,
    Column("job_id", ForeignKey("jobs.id", ondelete="CASCADE"), primary_key=True),
    Column("part", Text, primary_key=True),
    _artefact("artefact"),
    # null where it is not known
    Column("dataset", Text),
)

datasets = Table(
    "datasets",
    metadata,
    _id(),
    Column("name", Text, nullable=False, unique=True),
    _created(),
    Column("forgotten", Integer, nullable=False, server_default="0"),
)

versions = Table(
    "versions",
    metadata,
    _id(),
    Column("dataset_id", ForeignKey("datasets.id"), nullable=False),
    Column("number", Integer, nullable=False),
    Column("content_hash", Text, nullable=False),
    Column("roles", JSON, nullable=False),
    Column("profile", JSON, nullable=False),
    Column("report", JSON, nullable=False),
    Column("request", JSON, nullable=False, server_default="{}"),
    Column("item_columns", JSON, nullable=False),
    Column("user_columns", JSON, nullable=False),
    Column("context_columns", JSON, nullable=False, server_default="[]"),
    Column("parts", JSON, nullable=False, server_default="{}"),
    Column("scale", JSON),
    Column("base", Integer),
    # events numbered up to this one are among the rows
    Column("events_upto", BigInteger, nullable=False, server_default="0"),
    # column changes numbered up to this one are in the tables, or replaced by them
    Column("changes_upto", BigInteger, nullable=False, server_default="0"),
    Column("forgotten", Integer, nullable=False, server_default="0"),
    # files go when a version is removed; its row stays, so that its number is never given again
    _artefact("interactions_file", required=False),
    _artefact("items_file", required=False),
    _artefact("users_file", required=False),
    _artefact("user_activity_file", required=False),
    _artefact("item_activity_file", required=False),
    Column("removed_at", DateTime(timezone=True)),
    _created(),
    UniqueConstraint("dataset_id", "number"),
)

runs = Table(
    "runs",
    metadata,
    _id(),
    Column("contest", Text, nullable=False),
    Column("number", Integer, nullable=False),
    Column("version_id", ForeignKey("versions.id"), nullable=False),
    Column("job_id", ForeignKey("jobs.id"), nullable=False, unique=True),
    Column("file", Text, nullable=False),
    Column("spec", JSON, nullable=False),
    Column("preparation", JSON, nullable=False, server_default="[]"),
    Column("parts", JSON, nullable=False, server_default="[]"),
    Column("winner", Text),
    Column("comparison", JSON),
    Column("shelves", JSON, nullable=False, server_default="[]"),
    Column("expected_times", JSON),
    _created(),
    UniqueConstraint("contest", "number"),
)

standings = Table(
    "standings",
    metadata,
    _id(),
    Column("run_id", ForeignKey("runs.id", ondelete="CASCADE"), nullable=False),
    Column("contender", Text, nullable=False),
    Column("family", Text, nullable=False),
    Column("params", JSON, nullable=False),
    Column("against_popular", JSON),
    Column("fit_seconds", Double, nullable=False),
    Column("evaluate_seconds", Double, nullable=False),
    Column("peak_memory_mb", Double, nullable=False),
    Column("list_ms", Double),
    Column("prepare", JSON),
    Column("tuning", JSON),
    Column("amounts", JSON, nullable=False, server_default="[]"),
    Column("elapsed_seconds", Double),
    _artefact("per_user_file"),
    UniqueConstraint("run_id", "contender"),
)

attempts = Table(
    "attempts",
    metadata,
    _id(),
    Column("run_id", ForeignKey("runs.id", ondelete="CASCADE"), nullable=False),
    Column("contender", Text, nullable=False),
    Column("number", Integer, nullable=False),
    Column("attempt", JSON, nullable=False),
    UniqueConstraint("run_id", "contender", "number"),
)

figures = Table(
    "figures",
    metadata,
    Column("standing_id", ForeignKey("standings.id", ondelete="CASCADE"), primary_key=True),
    Column("part", Text, primary_key=True),
    Column("metric", Text, primary_key=True),
    Column("mean", Double, nullable=False),
    Column("low", Double),
    Column("high", Double),
)

models = Table(
    "models",
    metadata,
    _id(),
    Column("name", Text, nullable=False),
    Column("number", Integer, nullable=False),
    Column("standing_id", ForeignKey("standings.id"), unique=True),
    Column("version_id", ForeignKey("versions.id")),
    Column("family", Text, nullable=False),
    Column("params", JSON, nullable=False),
    Column("trained_on", Text, nullable=False),
    Column("code_version", Text, nullable=False),
    Column("users", Integer, nullable=False),
    Column("items", Integer, nullable=False),
    Column("cells", BigInteger, nullable=False),
    Column("story", JSON, nullable=False, server_default="{}"),
    _artefact("state_file"),
    _artefact("matrix_file"),
    _created(),
    UniqueConstraint("name", "number"),
)

model_numbers = Table(
    "model_numbers",
    metadata,
    Column("name", Text, primary_key=True),
    # stays when models are removed, so that no number is given twice
    Column("last", Integer, nullable=False),
)

rounds = Table(
    "rounds",
    metadata,
    _id(),
    Column("job_id", ForeignKey("jobs.id"), nullable=False, index=True),
    Column("contender", Text, nullable=False),
    Column("part", Text, nullable=False),
    Column("round", JSON, nullable=False),
)

shelves = Table(
    "shelves",
    metadata,
    _id(),
    Column("name", Text, nullable=False, unique=True),
    Column("serving", Integer, nullable=False),
    _created(),
)

shelf_versions = Table(
    "shelf_versions",
    metadata,
    _id(),
    Column("shelf_id", ForeignKey("shelves.id"), nullable=False),
    Column("number", Integer, nullable=False),
    Column("spec", JSON, nullable=False),
    Column("file", Text, nullable=False),
    Column("version_id", ForeignKey("versions.id"), nullable=False),
    Column("published_at", DateTime(timezone=True), nullable=False, server_default=func.now()),
    UniqueConstraint("shelf_id", "number"),
)

shelf_servings = Table(
    "shelf_servings",
    metadata,
    _id(),
    Column("shelf_id", ForeignKey("shelves.id"), nullable=False),
    Column("number", Integer, nullable=False),
    Column("how", Text, nullable=False),
    Column("at", DateTime(timezone=True), nullable=False, server_default=func.now()),
    Index("shelf_servings_by_shelf", "shelf_id", "id"),
)

refreshes = Table(
    "refreshes",
    metadata,
    _id(),
    Column("shelf_id", ForeignKey("shelves.id"), nullable=False),
    Column("due_at", DateTime(timezone=True)),
    Column("job_id", ForeignKey("jobs.id"), nullable=False, unique=True),
    Column("from_number", Integer, nullable=False),
    # running -> proposed -> published or refused; running -> kept
    Column("state", Text, nullable=False, server_default="running"),
    Column("proposal", JSON),
    Column("outcome", JSON, nullable=False, server_default="{}"),
    Column("reason", Text),
    Column("published", Integer),
    _created(),
    UniqueConstraint("shelf_id", "due_at"),
)

served_lists = Table(
    "served_lists",
    metadata,
    Column("list_id", Text, primary_key=True),
    Column("shelf", Text, nullable=False),
    Column("version", Integer, nullable=False),
    Column("user_id", Text),
    Column("items", ARRAY(Text), nullable=False),
    Column("fallback", Text),
    Column("at", DateTime(timezone=True), nullable=False, index=True),
)

events = Table(
    "events",
    metadata,
    Column("seq", BigInteger, Identity(), primary_key=True),
    Column("dataset_id", ForeignKey("datasets.id"), nullable=False),
    Column("id", Text, nullable=False),
    Column("source", Text, nullable=False),
    Column("user_id", Text, nullable=False),
    Column("item_id", Text, nullable=False),
    Column("kind", Text),
    Column("value", Double),
    Column("at", DateTime(timezone=True), nullable=False),
    Column("list_id", Text),
    Column("context", JSON),
    Column("received_at", DateTime(timezone=True), nullable=False, server_default=func.now()),
    UniqueConstraint("dataset_id", "source", "id"),
    Index("events_in_order", "dataset_id", "seq"),
    Index("events_of_user", "dataset_id", "user_id"),
    Index("events_of_list", "list_id", postgresql_where=text("list_id IS NOT NULL")),
)

CHANGE_NUMBERS = Sequence("column_changes_seq", metadata=metadata)

column_changes = Table(
    "column_changes",
    metadata,
    Column("dataset_id", ForeignKey("datasets.id"), primary_key=True),
    Column("side", Text, primary_key=True),
    Column("row_id", Text, primary_key=True),
    Column("name", Text, primary_key=True),
    Column("value", JSON),
    Column("at", DateTime(timezone=True), nullable=False, server_default=func.clock_timestamp()),
    Column("seq", BigInteger, nullable=False, server_default=CHANGE_NUMBERS.next_value()),
    Index("column_changes_in_order", "dataset_id", "seq"),
)

keys = Table(
    "keys",
    metadata,
    _id(),
    Column("name", Text, nullable=False, unique=True),
    Column("secret_sha256", Text, nullable=False, unique=True),
    Column("scopes", ARRAY(Text), nullable=False),
    _created(),
    Column("revoked_at", DateTime(timezone=True)),
    Column("expires_at", DateTime(timezone=True)),
    Column("per_minute", Integer),
    # the secret before the last rotation, and until when it still opens
    Column("previous_sha256", Text, unique=True),
    Column("previous_until", DateTime(timezone=True)),
)

sessions = Table(
    "sessions",
    metadata,
    Column("token_sha256", Text, primary_key=True),
    Column("key_id", ForeignKey("keys.id"), nullable=False, index=True),
    _created(),
    Column("ends_at", DateTime(timezone=True), nullable=False),
    Column("secret_sha256", Text, nullable=False),
)

audit = Table(
    "audit",
    metadata,
    _id(),
    Column("at", DateTime(timezone=True), nullable=False, server_default=func.clock_timestamp(), index=True),
    Column("by_key", Text),
    Column("method", Text, nullable=False),
    Column("path", Text, nullable=False),
    Column("request_id", Text, nullable=False),
    Column("address", Text),
)

idempotency = Table(
    "idempotency",
    metadata,
    Column("caller", Text, primary_key=True, server_default=""),
    Column("key", Text, primary_key=True),
    Column("request_sha256", Text, nullable=False),
    Column("status", Integer, nullable=False),
    Column("body", JSON, nullable=False),
    _created(),
    Index("ix_idempotency_created_at", "created_at"),
)
