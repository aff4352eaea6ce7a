"""Sending calls and reading answers. `http_async` has the same client for asyncio, apart: loading asyncio is a
tenth of what a command takes to start."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from pathlib import Path
from types import TracebackType
from typing import Any, Self, TypeVar

import httpx

from gleaner.client.answers import understood
from gleaner.client.call import Call
from gleaner.client.errors import JobFailedError, NoAnswerError, NotUnderstoodError, error_of
from gleaner.wire.common import Problem
from gleaner.wire.jobs import Job, JobState

DEFAULT_URL = "http://127.0.0.1:8642"
TIMEOUT = httpx.Timeout(30.0, connect=5.0)
TRIES = 3
TRANSFERS = 4
"""Times a transfer is begun, or taken up again where it broke."""

PAUSE_S = 0.2
RETRY_STATUS = (502, 503, 504)
FILE_CHUNK = 1 << 20

T = TypeVar("T")


def options(url: str | None, key: str | None) -> dict[str, Any]:
    secret = key or os.environ.get("GLEANER_KEY")
    base = url or os.environ.get("GLEANER_URL") or DEFAULT_URL
    return {
        "base_url": base,
        # reading the certificates of the world takes longer than most calls, and a plain connection shows none
        "verify": not base.startswith("http://"),
        "headers": {"Authorization": f"Bearer {secret}"} if secret else {},
        "timeout": TIMEOUT,
    }


def request_of(call: Call[Any]) -> dict[str, Any]:
    headers = {"Idempotency-Key": call.idempotency_key} if call.idempotency_key else {}
    content = None
    if call.body is not None:
        content = call.body.model_dump_json().encode()
        headers["Content-Type"] = "application/json"
    return {
        "method": call.method,
        "url": call.path,
        "params": call.query,
        "content": content,
        "headers": headers,
    } | ({"timeout": call.timeout_s} if call.timeout_s else {})


def chunks(call: Call[Any]) -> Iterator[bytes]:
    assert call.file is not None
    sent = 0
    with call.file.open("rb") as file:
        while data := file.read(FILE_CHUNK):
            yield data
            sent += len(data)
            if call.on_sent:
                call.on_sent(sent)


def file_headers(file: Path) -> dict[str, str]:
    return {"Content-Length": str(file.stat().st_size), "Content-Type": "application/octet-stream"}


def problem_of(response: httpx.Response) -> Problem:
    try:
        return understood(Problem, response.content, "a refusal")
    except NotUnderstoodError:
        text = response.text.strip()[:200] or response.reason_phrase
        title = response.reason_phrase or "Error"
        return Problem(type="about:blank", title=title, status=response.status_code, detail=text)


def read_answer(call: Call[T], response: httpx.Response) -> T:
    if response.is_success:
        return call.read(response.content)
    raise error_of(problem_of(response))


def no_answer(error: httpx.HTTPError, url: httpx.URL) -> NoAnswerError:
    reason = str(error) or type(error).__name__
    return NoAnswerError(f"no answer from {url}: {reason}. Is the service up? `gleaner up` starts it")


def job_of(data: str) -> Job:
    return understood(Job, data, "the stream of a job")


def require_done(job: Job) -> Job:
    if job.state is not JobState.DONE:
        raise JobFailedError(job)
    return job


class Client:
    """Sends calls and waits for their answers. Safe calls are tried again when the connection fails or the service is
    not available for the moment; writes are tried again only with an Idempotency-Key.

    url and key default to GLEANER_URL and GLEANER_KEY, then to the local service without a key. `transport` takes any
    httpx transport, such as one that calls an application in this process.
    """

    def __init__(
        self, url: str | None = None, key: str | None = None, *, transport: httpx.BaseTransport | None = None
    ) -> None:
        self._http = httpx.Client(**options(url, key), transport=transport)

    def __repr__(self) -> str:
        return f"Client({str(self._http.base_url)!r})"

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Close the connections."""
        self._http.close()

    def send(self, call: Call[T]) -> T:
        """The answer to a call. Raises a ClientError."""
        for left in reversed(range(TRIES if call.safe else 1)):
            try:
                response = self._send_once(call)
            except httpx.HTTPError as error:
                if not left:
                    raise no_answer(error, self._http.base_url) from error
            else:
                if response.status_code not in RETRY_STATUS or not left:
                    return read_answer(call, response)
            time.sleep(PAUSE_S * (TRIES - left))
        raise AssertionError("unreachable")

    def save(self, call: Call[bytes], out: Path) -> None:
        """Write a call's answer to a file as it comes: beside its place, then renamed. A transfer that breaks goes on
        where it was. Raises a ClientError."""
        part = out.with_name(f".{out.name}.part")
        try:
            for left in reversed(range(TRANSFERS)):
                try:
                    self._append(call, part)
                    break
                except httpx.TransportError:
                    if not left:
                        raise
            part.rename(out)
        except httpx.HTTPError as error:
            raise no_answer(error, self._http.base_url) from error
        finally:
            part.unlink(missing_ok=True)

    def _append(self, call: Call[bytes], part: Path) -> None:
        """Write what is not there yet; all of it, where the service answers with all of it."""
        bytes_there = part.stat().st_size if part.exists() else 0
        headers = {"Range": f"bytes={bytes_there}-"} if bytes_there else {}
        with self._http.stream(call.method, call.path, params=call.query, headers=headers) as response:
            if not response.is_success:
                response.read()
                raise error_of(problem_of(response))
            with part.open("ab" if response.status_code == httpx.codes.PARTIAL_CONTENT else "wb") as file:
                for chunk in response.iter_bytes():
                    file.write(chunk)

    def _send_once(self, call: Call[Any]) -> httpx.Response:
        if call.file is None:
            return self._http.request(**request_of(call))
        headers = file_headers(call.file)
        return self._http.post(call.path, params=call.query, content=chunks(call), headers=headers, timeout=None)

    def follow(self, job_id: int) -> Iterator[Job]:
        """The job now and after every change, until it has ended. Picks up again when the stream breaks."""
        breaks = 0
        while True:
            try:
                with self._http.stream(
                    "GET", f"/v1/jobs/{job_id}/events", timeout=httpx.Timeout(60, connect=5)
                ) as response:
                    if not response.is_success:
                        response.read()
                        raise error_of(problem_of(response))
                    for line in response.iter_lines():
                        if line.startswith("data:"):
                            breaks = 0
                            job = job_of(line[5:])
                            yield job
                            if job.state.ended:
                                return
            except httpx.HTTPError as error:
                breaks += 1
                if breaks >= TRIES:
                    raise no_answer(error, self._http.base_url) from error
            time.sleep(PAUSE_S)

    def wait(self, job_id: int) -> Job:
        """The job once it is done. Raises JobFailedError when it failed or was cancelled."""
        for job in self.follow(job_id):
            last = job
        return require_done(last)
