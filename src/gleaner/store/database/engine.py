"""Connections, and the schema's migrations."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import Connection, Engine, create_engine, text

MIGRATIONS = Path(__file__).parents[1] / "migrations"
MIGRATION_LOCK = 7_316_041


def sqlalchemy_url(url: str) -> str:
    """The URL with the driver SQLAlchemy needs named."""
    return url.replace("postgresql://", "postgresql+psycopg://", 1)


def make_engine(url: str, *, pool_size: int = 10, idle_s: float | None = None) -> Engine:
    """An engine whose connections are checked before use, so that a restarted database is no error.

    idle_s: how long a transaction may stand still before the database ends it, and with it the locks that it holds.
    """
    options = "" if idle_s is None else f"-c idle_in_transaction_session_timeout={round(idle_s * 1000)}"
    return create_engine(
        sqlalchemy_url(url),
        pool_pre_ping=True,
        pool_size=pool_size,
        max_overflow=10,
        connect_args={"options": options} if options else {},
    )


def migrate(engine: Engine) -> None:
    """Bring the schema to the newest version. Safe to call from several processes at once."""
    # a fifth of a second that the process of a job, which never migrates, need not spend
    from alembic import command
    from alembic.config import Config

    with engine.begin() as connection:
        connection.execute(text("SELECT pg_advisory_xact_lock(:lock)"), {"lock": MIGRATION_LOCK})
        config = Config()
        config.set_main_option("script_location", str(MIGRATIONS))
        config.set_main_option("path_separator", "os")
        config.attributes["connection"] = connection
        command.upgrade(config, "head")


def notify(connection: Connection, channel: str, payload: str) -> None:
    """Tell listeners, when this transaction commits."""
    connection.execute(text("SELECT pg_notify(:channel, :payload)"), {"channel": channel, "payload": payload})
