"""What one connection, one address and one body may take."""

from __future__ import annotations

import asyncio
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import closing, suppress

import pytest
import uvicorn

from gleaner.service.http import connections
from gleaner.service.http.connections import ConnectionLimits
from gleaner.service.http.draining import DrainingProtocol, DrainingServer
from stack import wait_for

GET = b"GET /x HTTP/1.1\r\nHost: here\r\n"
POST = b"POST /x HTTP/1.1\r\nHost: here\r\nContent-Length: 100000\r\n\r\n"
CHUNKED = b"POST /x HTTP/1.1\r\nHost: here\r\nTransfer-Encoding: chunked\r\n\r\n"


class Counting:
    """A server that answers with the number of bytes of a body, and may send a long answer."""

    def __init__(self, per_address: int = 100) -> None:
        self.socket = socket.create_server(("127.0.0.1", 0))
        self.address = self.socket.getsockname()
        self.answer_bytes = 0
        config = uvicorn.Config(self._answer, http=DrainingProtocol, interface="asgi3", lifespan="off", log_config=None)
        self.limits = ConnectionLimits(per_address)
        self.server = DrainingServer(config, self.limits)
        self.thread = threading.Thread(target=self.server.run, args=([self.socket],))
        self.thread.start()
        wait_for(lambda: self.server.started)

    async def _answer(self, _scope: object, receive, send) -> None:
        size, more = 0, True
        while more:
            message = await receive()
            if message["type"] == "http.disconnect":
                return
            size, more = size + len(message["body"]), message.get("more_body", False)
        body = str(size).encode() + b"x" * self.answer_bytes
        await send({"type": "http.response.start", "status": 200, "headers": []})
        for start in range(0, len(body), 65_536):
            await send({"type": "http.response.body", "body": body[start : start + 65_536], "more_body": True})
        await send({"type": "http.response.body", "body": b""})

    def connect(self) -> socket.socket:
        return socket.create_connection(self.address, timeout=20)

    def ask(self, content: bytes) -> bytes:
        """Send bytes, and return all that comes until the server closes."""
        with closing(self.connect()) as connection:
            with suppress(OSError):
                connection.sendall(content)
            return everything(connection)


def everything(connection: socket.socket) -> bytes:
    parts = []
    try:
        while part := connection.recv(65_536):
            parts.append(part)
    except ConnectionResetError:
        pass
    return b"".join(parts)


@pytest.fixture
def counting() -> Iterator[Counting]:
    """A server with its own deadlines, which no test comes near."""
    server = Counting()
    yield server
    server.server.should_exit = True
    server.thread.join()


@pytest.fixture
def hasty(monkeypatch, counting) -> Counting:
    """A server that waits for nothing long: for tests in which whoever calls is late in any case."""
    monkeypatch.setattr(connections, "HEADERS_S", 0.3)
    monkeypatch.setattr(connections, "BODY_IDLE_S", 0.4)
    return counting


CLOSING = b"Connection: close\r\n"


@pytest.mark.parametrize(
    ("content", "status"),
    [
        (GET + CLOSING + b"X: " + b"a" * 60_000 + b"\r\n\r\n", b"200"),
        (GET + b"X: " + b"a" * 200_000, b"431"),
        (GET + b"".join(b"X%d: a\r\n" % n for n in range(20_000)), b"431"),
        (b"GET /" + b"a" * 200_000, b"431"),
        (b"a" * 200_000, b"400"),
        (CHUNKED + b"1;" + b"a" * 200_000, b"431"),
        (CHUNKED + b"5\r\nabcde\r\n0\r\n" + b"".join(b"T%d: a\r\n" % n for n in range(20_000)), b"431"),
        (CHUNKED.replace(b"\r\n\r\n", b"\r\n" + CLOSING + b"\r\n") + b"5\r\nabcde\r\n0\r\n\r\n", b"200"),
    ],
)
def test_headers_and_framing_are_bounded(counting, content, status):
    answer = counting.ask(content)
    assert answer.split(b" ")[1:2] == [status], answer[:200]
    if status == b"431":
        assert b'"type": "urn:gleaner:problem:too-large"' in answer


@pytest.mark.parametrize("content", [b"", b"GET", GET, POST, POST + b"abc", CHUNKED + b"5\r\nab"])
def test_what_is_half_sent_is_closed_in_time(hasty, content):
    begun = time.monotonic()
    answer = hasty.ask(content)
    assert answer.split(b" ")[1:2] == [b"408"]
    assert time.monotonic() - begun < 10
    wait_for(lambda: not hasty.limits.open)


def test_headers_that_trickle_in_have_one_deadline(hasty):
    with closing(hasty.connect()) as connection:
        begun = time.monotonic()
        ended = threading.Event()

        def trickle() -> None:
            try:
                while not ended.wait(0.05):
                    connection.sendall(b"G")
            except OSError:
                return

        sending = threading.Thread(target=trickle)
        connection.sendall(b"GET /")
        sending.start()
        answer = everything(connection)
        ended.set()
        sending.join()
    # closed while the bytes still came, each well within the time that headers have
    assert answer.split(b" ")[1:2] == [b"408"]
    assert time.monotonic() - begun < 10


def test_a_kept_connection_may_be_idle_between_requests(counting):
    with closing(counting.connect()) as connection, connection.makefile("rb") as reading:
        for _ in range(2):
            connection.sendall(GET + b"\r\n")
            assert reading.readline() == b"HTTP/1.1 200 OK\r\n"
            assert b"\r\n" in iter(reading.readline, b"")
            assert [reading.readline() for _ in range(4)] == [b"1\r\n", b"0\r\n", b"0\r\n", b"\r\n"]
            # nothing is expected of it until its next byte comes
            [kept] = counting.server.server_state.connections
            assert kept._deadline is None


def test_who_does_not_read_an_answer_is_dropped(counting, monkeypatch):
    monkeypatch.setattr(connections, "ANSWER_IDLE_S", 0.4)
    counting.answer_bytes = 50_000_000
    with closing(counting.connect()) as connection:
        wait_for(lambda: counting.limits.open)
        connection.sendall(GET + b"\r\n")
        wait_for(lambda: not counting.limits.open)
        assert len(everything(connection)) < 50_000_000


def test_one_address_has_so_many_connections():
    server = Counting(per_address=3)
    try:
        held = [server.connect() for _ in range(3)]
        wait_for(lambda: server.limits.open.total() == 3)
        refused = server.ask(GET + b"\r\n")
        assert refused.split(b" ")[1:2] == [b"503"]
        assert b"close some" in refused
        held.pop().close()
        wait_for(lambda: server.limits.open.total() == 2)
        assert server.ask(GET + CLOSING + b"\r\n").split(b" ")[1:2] == [b"200"]
        for connection in held:
            connection.close()
    finally:
        server.server.should_exit = True
        server.thread.join()


def test_trusted_proxies_have_no_limit_but_the_process_has():
    limits = ConnectionLimits(1, lambda address: address == "10.0.0.1")
    limits.in_all = 3
    assert [limits.take(each) for each in ("10.0.0.1", "10.0.0.1", "1.1.1.1", "2.2.2.2")] == [True, True, True, False]
    limits.give_back("10.0.0.1")
    assert [limits.take("1.1.1.1"), limits.take("2.2.2.2")] == [False, True]
    assert limits.refused == 2


def test_a_body_is_not_read_before_the_key_is_known(demo):
    """Whoever has no key costs no parsing."""
    from gleaner.service.http.app import create_app
    from gleaner.settings import Settings

    app = create_app(Settings(home=demo.home, database_url=demo.database_url, auth="required"))
    read: list[int] = []

    async def receive() -> dict:
        read.append(1)
        return {"type": "http.request", "body": b"{", "more_body": True}

    answers: list[dict] = []

    async def send(message: dict) -> None:
        answers.append(message)

    scope = {
        "type": "http", "method": "POST", "path": "/v1/shelves", "raw_path": b"/v1/shelves", "query_string": b"",
        "headers": [(b"host", b"127.0.0.1"), (b"content-type", b"application/json")], "scheme": "http",
        "http_version": "1.1", "server": ("127.0.0.1", 80), "client": ("127.0.0.1", 1), "root_path": "", "asgi": {},
    }  # fmt: skip
    asyncio.run(app(scope, receive, send))
    app.state.service.close()
    assert (answers[0]["status"], read) == (401, [])


def test_many_mistakes_of_a_body_are_not_listed(demo):
    few = demo.http.post("/v1/keys", json={f"f{n}": 1 for n in range(100)})
    assert (few.status_code, len(few.json()["errors"]), "; and 97 more" in few.json()["detail"]) == (422, 20, True)
    many = demo.http.post("/v1/keys", json={f"f{n}": 1 for n in range(100_000)})
    assert many.status_code == 422
    assert [each["message"] for each in many.json()["errors"]] == [
        "this is not what the call takes: it has 100002 mistakes, such as fields that do not exist"
    ]


def test_a_body_to_sign_in_with_is_small(demo):
    answer = demo.http.post("/v1/session", json={"key": "x" * 2000})
    assert (answer.status_code, "larger than 1,024 bytes" in answer.text) == (413, True)
    chunked = demo.http.post("/v1/session", content=iter([b"x" * 600] * 4))
    assert chunked.status_code == 413


@pytest.mark.parametrize(
    "path",
    ["/v1/models/..;/x", "/v1/models/%252e%252e/x", "/v1/models/..%5cx", "/v1/..%2f..", "/assets/%2e%2e;a=b/x", "/."],
)
def test_a_segment_of_dots_is_refused_in_every_disguise(demo, path):
    with closing(socket.create_connection(("127.0.0.1", int(demo.url.rpartition(":")[2])), timeout=10)) as connection:
        connection.sendall(f"GET {path} HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\n\r\n".encode())
        answer = everything(connection)
    assert answer.split(b" ")[1:2] == [b"400"], answer[:100]


@pytest.mark.parametrize("item", ["...", ".hidden", "a..b", "..a"])
def test_ids_with_dots_of_their_own_are_addressed(demo, item):
    answer = demo.http.get(f"/v1/models/first-look.als/items/{item}/audience")
    assert answer.status_code == 404
    assert item in answer.text
