"""Alembic's entry: runs the migrations on the connection it is given."""

from alembic import context

from gleaner.store.database.tables import metadata

context.configure(
    connection=context.config.attributes["connection"],
    target_metadata=metadata,
    include_name=lambda name, kind, _: kind != "table" or not str(name).startswith("procrastinate_"),
)
with context.begin_transaction():
    context.run_migrations()
