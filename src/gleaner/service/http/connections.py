"""Bounds on what one connection, and one address, may hold open: bytes of headers, time to send, number of connections.

Uvicorn's protocol has no bound on headers and no deadline for a request that is half sent. Here

- the request line and the headers have at most `MAX_HEADER_BYTES`; so have trailers and the framing of chunks,
- headers arrive within `HEADERS_S`, and a body keeps arriving: within `BODY_IDLE_S` there is more of it, and over the
  whole of it at least `BODY_BYTES_PER_S`,
- a caller that stops reading an answer is dropped after `ANSWER_IDLE_S`,
- one address has at most so many connections, and the process at most so many in all.
"""

from __future__ import annotations

import asyncio
import json
import resource
from collections import Counter
from typing import Any, Literal

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol
from uvicorn.server import ServerState

MAX_HEADER_BYTES = 64 * 1024
HEADERS_S = 10.0
BODY_IDLE_S = 30.0
BODY_BYTES_PER_S = 1024
ANSWER_IDLE_S = 60.0
RESERVED_FILES = 200
"""File descriptors kept for models, the database and logs."""

FRAMING_PER_BYTE = 16
"""Bytes of chunk framing that may come with each byte of a chunked body."""

REFUSALS = {
    408: ("timeout", "The request did not arrive in time"),
    431: ("too-large", "The headers are too large"),
    503: ("unavailable", "Too many connections"),
}
Stage = Literal["idle", "headers", "body"]
"""What a caller is sending."""


class ConnectionLimits:
    """How many connections there are, by address. trusted: whether an address is a proxy's, which has no limit."""

    def __init__(self, per_address: int, trusted: Any = lambda address: False) -> None:
        self.per_address, self.trusted = per_address, trusted
        self.in_all = max(64, resource.getrlimit(resource.RLIMIT_NOFILE)[0] - RESERVED_FILES)
        self.open: Counter[str] = Counter()
        self.refused = 0

    def take(self, address: str) -> bool:
        """Count a connection. Return False where the address, or the process, has as many as it may."""
        if self.open.total() >= self.in_all or (self.open[address] >= self.per_address and not self.trusted(address)):
            self.refused += 1
            return False
        self.open[address] += 1
        return True

    def give_back(self, address: str) -> None:
        """Count a connection that was taken as closed."""
        self.open[address] -= 1
        if self.open[address] <= 0:
            del self.open[address]


class BoundedState(ServerState):
    """What connections and server share: also how many connections there are."""

    def __init__(self, limits: ConnectionLimits | None = None) -> None:
        super().__init__()
        self.limits = limits or ConnectionLimits(2**31)


class BoundedProtocol(HttpToolsProtocol):
    """A connection that is closed where a caller sends too much, too slowly, or does not read."""

    server_state: BoundedState

    def __init__(self, *arguments: Any, **named: Any) -> None:
        super().__init__(*arguments, **named)
        self._address: str | None = None
        self._stage: Stage = "idle"
        self._framing = 0
        self._body_bytes = self._delivered = 0
        self._body_began = 0.0
        self._begins_anew = False
        self._deadline: asyncio.TimerHandle | None = None
        self._reading_deadline: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Count the connection, or refuse it."""
        super().connection_made(transport)
        address = self.client[0] if self.client else ""
        if not self.server_state.limits.take(address):
            self._refuse(503, "your address has as many connections as it may, or the service has; close some")
            return
        self._address = address
        self._expect(HEADERS_S)

    def connection_lost(self, exc: Exception | None) -> None:
        """Count the connection as closed."""
        super().connection_lost(exc)
        self._expect(None)
        self._await_reader(None)
        if self._address is not None:
            self.server_state.limits.give_back(self._address)
            self._address = None

    def data_received(self, data: bytes) -> None:
        """Read what came, no more of it at once than headers may still have."""
        while data and self.parser is not None and not self.transport.is_closing():
            piece, data = data, b""
            if self._stage != "body":
                room = MAX_HEADER_BYTES + 1 - self._framing
                piece, data = piece[:room], piece[room:]
            self._read(piece)
        self._set_deadline()

    def _read(self, piece: bytes) -> None:
        delivered = self._delivered
        self._framing += len(piece)
        if self._stage == "idle":
            self._stage = "headers"
        super().data_received(piece)
        self._framing -= self._delivered - delivered
        if self._begins_anew:
            # within the piece, nobody says where: at most one piece goes uncounted
            self._framing, self._begins_anew = 0, False
        allowed = MAX_HEADER_BYTES + (FRAMING_PER_BYTE * self._body_bytes if self._stage == "body" else 0)
        if self._framing > allowed and self._stage != "idle":
            self._refuse(431, f"request line, headers and trailers have at most {MAX_HEADER_BYTES:,} bytes")

    def _set_deadline(self) -> None:
        """Expect what the caller has to send next. Headers have one deadline, from their first byte."""
        if self._stage == "idle":
            self._expect(None)
        elif self._stage == "body":
            self._expect(BODY_IDLE_S)
        elif self._deadline is None:
            self._expect(HEADERS_S)

    def on_message_begin(self) -> None:
        """A request begins: what comes is headers."""
        super().on_message_begin()
        self._stage, self._body_bytes, self._begins_anew = "headers", 0, self._stage == "idle"

    def on_headers_complete(self) -> None:
        """What comes is a body, if there is one."""
        super().on_headers_complete()
        self._stage, self._body_began, self._begins_anew = "body", self.loop.time(), True

    def on_body(self, body: bytes) -> None:
        """More of a body came."""
        super().on_body(body)
        self._body_bytes += len(body)
        self._delivered += len(body)
        took = self.loop.time() - self._body_began
        if took > BODY_IDLE_S and self._body_bytes < took * BODY_BYTES_PER_S:
            self._too_late()

    def on_message_complete(self) -> None:
        """The request is whole; nothing is expected of the caller until its answer is out."""
        super().on_message_complete()
        self._stage, self._begins_anew = "idle", True

    def pause_writing(self) -> None:
        """The caller does not read its answer for the moment."""
        super().pause_writing()
        self._await_reader(ANSWER_IDLE_S)

    def resume_writing(self) -> None:
        """The caller reads on."""
        super().resume_writing()
        self._await_reader(None)

    def _expect(self, seconds: float | None) -> None:
        """Close the connection unless more comes within so many seconds; None: nothing need come."""
        if self._deadline is not None:
            self._deadline.cancel()
        self._deadline = None if seconds is None else self.loop.call_later(seconds, self._too_late)

    def _await_reader(self, seconds: float | None) -> None:
        if self._reading_deadline is not None:
            self._reading_deadline.cancel()
        self._reading_deadline = None if seconds is None else self.loop.call_later(seconds, self.transport.abort)

    def _too_late(self) -> None:
        if self.flow.read_paused:
            # we do not read on ourselves: the service is busy with what came, and the caller waits
            self._body_began = self.loop.time()
            self._body_bytes = 0
            self._expect(BODY_IDLE_S)
            return
        self._refuse(408, f"headers arrive within {HEADERS_S:.0f} s, and a body keeps arriving")

    def _refuse(self, status: int, text: str) -> None:
        """Close the connection, with a problem document where that is an answer to what the caller was sending."""
        if self.transport.is_closing():
            return
        cycle = self.cycle
        is_answering = cycle is not None and not cycle.response_complete
        if not is_answering or (self._stage == "body" and not cycle.response_started):
            self.transport.write(_refusal(status, text))
        if is_answering:
            cycle.disconnected = True
            cycle.message_event.set()
        self.transport.close()


def _refusal(status: int, text: str) -> bytes:
    """Return an answer with a problem document, as it goes over the connection."""
    kind, title = REFUSALS[status]
    problem = {"type": f"urn:gleaner:problem:{kind}", "title": title, "status": status, "detail": text, "errors": []}
    body = json.dumps(problem).encode()
    head = (
        f"HTTP/1.1 {status} {title}\r\ncontent-type: application/problem+json\r\n"
        f"content-length: {len(body)}\r\nconnection: close\r\n\r\n"
    )
    return head.encode() + body


def raise_file_limit() -> None:
    """Allow this process as many open files as the system lets it have: each connection is one."""
    _, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))
