"""The client for asyncio. It differs from `Client` in sending only; what is sent and how answers are read is shared."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from types import TracebackType
from typing import Any, Self, TypeVar

import httpx

from gleaner.client.call import Call
from gleaner.client.errors import ClientError, error_of
from gleaner.client.http import (
    PAUSE_S,
    RETRY_STATUS,
    TRIES,
    chunks,
    file_headers,
    job_of,
    no_answer,
    options,
    problem_of,
    read_answer,
    request_of,
    require_done,
)
from gleaner.wire.jobs import Job

T = TypeVar("T")


async def _async_chunks(call: Call[Any]) -> AsyncIterator[bytes]:
    for chunk in chunks(call):
        yield chunk


class AsyncClient:
    """The same as `Client` for asyncio."""

    def __init__(
        self,
        url: str | None = None,
        key: str | None = None,
        *,
        transport: httpx.AsyncBaseTransport | None = None,
    ) -> None:
        self._http = httpx.AsyncClient(**options(url, key), transport=transport)

    def __repr__(self) -> str:
        return f"AsyncClient({str(self._http.base_url)!r})"

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.close()

    async def close(self) -> None:
        """Close the connections."""
        await self._http.aclose()

    async def send(self, call: Call[T]) -> T:
        """The answer to a call. Raises a ClientError."""
        for left in reversed(range(TRIES if call.safe else 1)):
            try:
                response = await self._send_once(call)
            except httpx.HTTPError as error:
                if not left:
                    raise no_answer(error, self._http.base_url) from error
            else:
                if response.status_code not in RETRY_STATUS or not left:
                    return read_answer(call, response)
            await asyncio.sleep(PAUSE_S * (TRIES - left))
        raise AssertionError("unreachable")

    async def _send_once(self, call: Call[Any]) -> httpx.Response:
        if call.file is None:
            return await self._http.request(**request_of(call))
        headers = file_headers(call.file)
        return await self._http.post(
            call.path, params=call.query, content=_async_chunks(call), headers=headers, timeout=None
        )

    async def follow(self, job_id: int) -> AsyncIterator[Job]:
        """The job now and after every change, until it has ended."""
        timeout = httpx.Timeout(60, connect=5)
        async with self._http.stream("GET", f"/v1/jobs/{job_id}/events", timeout=timeout) as response:
            if not response.is_success:
                await response.aread()
                raise error_of(problem_of(response))
            async for line in response.aiter_lines():
                if line.startswith("data:"):
                    yield job_of(line[5:])

    async def wait(self, job_id: int) -> Job:
        """The job once it is done. Raises JobFailedError when it failed or was cancelled."""
        last: Job | None = None
        async for job in self.follow(job_id):
            last = job
        if last is None:
            raise ClientError(f"the stream of job {job_id} ended before it began")
        return require_done(last)
