"""A web server that answers whatever had reached it when it is told to stop.

Uvicorn closes at once every connection on which nothing is being answered. A call that was on its way over one of them
(taken from the socket a moment ago, or a kept connection used again) is then lost: its bytes meet a closed connection
and the caller sees a reset. Here such connections stay open for a moment more, and close with the answer to what comes.
"""

from __future__ import annotations

import asyncio
import socket
import time

import uvicorn

from gleaner.service.http.connections import BoundedProtocol, BoundedState, ConnectionLimits

ON_ITS_WAY_S = 0.5
"""A call that was sent before the process was told to stop arrives within this time."""

LOOK_S = 0.02
"""How often is looked whether any connection is left."""


class DrainingState(BoundedState):
    """What connections and server share: also whether the server is stopping."""

    connections: set[DrainingProtocol]  # type: ignore[assignment]

    def __init__(self, limits: ConnectionLimits | None = None) -> None:
        super().__init__(limits)
        self.stopping = False


class DrainingProtocol(BoundedProtocol):
    """A connection that closes with its next answer once the server is stopping."""

    server_state: DrainingState

    def on_headers_complete(self) -> None:
        """A request is read: its answer is the last one here if the server is stopping."""
        super().on_headers_complete()
        if self.server_state.stopping:
            self.close_with_answer()

    def close_with_answer(self) -> None:
        """Close the connection after the current response."""
        if self.cycle is not None:
            self.cycle.keep_alive = False


class DrainingServer(uvicorn.Server):
    """Uvicorn's server, but for how it stops."""

    def __init__(self, config: uvicorn.Config, limits: ConnectionLimits | None = None) -> None:
        super().__init__(config)
        self.server_state: DrainingState = DrainingState(limits)

    async def shutdown(self, sockets: list[socket.socket] | None = None) -> None:
        """Take no more connections, answer what comes over those there are, then stop as Uvicorn does."""
        for server in self.servers:
            server.close()
        self.server_state.stopping = True
        for connection in list(self.server_state.connections):
            connection.close_with_answer()
        # one that was taken just before is among the connections only when the loop comes to it
        end = time.monotonic() + ON_ITS_WAY_S
        await asyncio.sleep(LOOK_S)
        while self.server_state.connections and time.monotonic() < end:
            await asyncio.sleep(LOOK_S)
        await super().shutdown(sockets)
