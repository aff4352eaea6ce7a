"""Trying what a refresh proposes, and serving it if it stands."""

from __future__ import annotations

from sqlalchemy import Engine

from gleaner.core.errors import GleanerError
from gleaner.service.shelves.shelf_keeper import ShelfKeeper
from gleaner.store import refreshes, shelves


def try_proposal(engine: Engine, keeper: ShelfKeeper, refresh_id: int) -> None:
    """Load what is proposed and ask it for a list; then it is published, else refused with the reason. Of several
    serving processes one does it. What was published meanwhile by others is not written over."""
    with engine.begin() as connection:
        proposal = refreshes.take(connection, refresh_id)
        if proposal is None:
            return
        # whoever publishes meanwhile waits, and is served after what is proposed
        shelves.lock(connection, proposal.shelf)
        serving = shelves.get(connection, proposal.shelf)
        if serving.number != proposal.from_number:
            reason = f"{serving.name} came to be served while {proposal.shelf}@{proposal.from_number} was refreshed"
            refreshes.refuse(connection, refresh_id, reason)
            return
        try:
            keeper.load(proposal.spec, 0, new=True)
        except GleanerError as error:
            refreshes.refuse(connection, refresh_id, error.message)
            return
        version = shelves.publish(connection, proposal.spec, proposal.file, proposal.version_id, "refreshed")
        refreshes.publish(connection, refresh_id, version.number)


def try_waiting(engine: Engine, keeper: ShelfKeeper) -> None:
    """The same for all that nobody was there to try."""
    with engine.begin() as connection:
        waiting = refreshes.waiting(connection)
    for refresh_id in waiting:
        try_proposal(engine, keeper, refresh_id)
