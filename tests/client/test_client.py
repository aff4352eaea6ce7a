"""The client against made-up answers: what is sent, what is tried again, what is raised."""

from __future__ import annotations

import asyncio
import json

import httpx
import pytest

import gleaner.client as library
from gleaner.client import (
    AsyncClient,
    Client,
    DeniedError,
    JobFailedError,
    NoAnswerError,
    NotFoundError,
    NotUnderstoodError,
    RefusedError,
    ServiceFailedError,
    calls,
    http,
)
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.jobs import JobState

VERSION = {"service": "gleaner", "version": "0"}
JOB = {
    "id": 7, "kind": "import", "subject": "x", "state": "running", "progress": 0.5, "attempt": 1,
    "created_at": "2026-01-01T00:00:00Z",
}  # fmt: skip


@pytest.fixture(autouse=True)
def _no_pause(monkeypatch):
    monkeypatch.setattr(http, "PAUSE_S", 0)


class Answers:
    """Answers requests from a list, and keeps them."""

    def __init__(self, *answers):
        self.answers = list(answers)
        self.requests = []

    def __call__(self, request: httpx.Request) -> httpx.Response:
        self.requests.append(request)
        answer = self.answers.pop(0)
        if isinstance(answer, Exception):
            raise answer
        return answer


def send(client_kind: str, call, *answers):
    """Send one call with either client; the answer and the requests made."""
    served = Answers(*answers)
    transport = httpx.MockTransport(served)
    if client_kind == "sync":
        with Client("http://g", "k", transport=transport) as client:
            return client.send(call), served.requests

    async def go():
        async with AsyncClient("http://g", "k", transport=transport) as client:
            return await client.send(call)

    return asyncio.run(go()), served.requests


def problem(status: int) -> httpx.Response:
    body = {"type": "urn:gleaner:problem:x", "title": "X", "status": status, "detail": f"because {status}"}
    return httpx.Response(status, json=body)


both = pytest.mark.parametrize("kind", ["sync", "async"])


@both
def test_calls_are_sent_as_they_are_meant(kind):
    answer = {"model": "m", "user": "a/b \U0001f331", "known": True, "asked": 3, "left_out": 0, "list": []}
    actual, [request] = send(kind, calls.model_recommend("m@1", "a/b \U0001f331", 3), httpx.Response(200, json=answer))
    assert request.url.raw_path == (
        b"/v1/models/m@1/users/a%2Fb%20%F0%9F%8C%B1/recommendations?n=3&include_known=false"
    )
    assert request.headers["authorization"] == "Bearer k"
    assert actual.user == "a/b \U0001f331"


@both
@pytest.mark.parametrize(
    ("status", "error"),
    [(401, DeniedError), (403, DeniedError), (404, NotFoundError), (409, RefusedError), (422, RefusedError), (500, ServiceFailedError)],
)  # fmt: skip
def test_refusals_carry_the_problem(kind, status, error):
    with pytest.raises(error, match=f"because {status}") as caught:
        send(kind, calls.list_models(), problem(status))
    assert caught.value.problem.status == status


@both
def test_an_answer_that_is_no_problem_document_is_told_too(kind):
    with pytest.raises(ServiceFailedError, match="upstream is gone"):
        send(kind, calls.run_contest(FileRequest(file="x")), httpx.Response(502, text="upstream is gone"))


@both
def test_safe_calls_are_tried_again(kind):
    actual, requests = send(
        kind, calls.version(), httpx.ConnectError("no"), problem(503), httpx.Response(200, json=VERSION)
    )
    assert actual.service == "gleaner"
    assert len(requests) == 3
    with pytest.raises(NoAnswerError, match="no answer from http://g"):
        send(kind, calls.version(), *[httpx.ConnectError("no")] * 3)
    with pytest.raises(ServiceFailedError):
        send(kind, calls.version(), *[problem(503)] * 3)


@both
def test_writes_are_tried_again_only_with_an_idempotency_key(kind):
    write = FileRequest(file="x")
    with pytest.raises(NoAnswerError):
        send(kind, calls.run_contest(write), httpx.ReadTimeout("slow"))
    with pytest.raises(ServiceFailedError):
        send(kind, calls.publish_shelf(write), problem(503))
    answers = [httpx.ReadTimeout("slow"), problem(422)]
    with pytest.raises(RefusedError):
        send(kind, calls.run_contest(write, idempotency_key="once"), *answers)


def test_the_key_and_address_come_from_the_environment(monkeypatch):
    monkeypatch.setenv("GLEANER_URL", "http://elsewhere:1")
    monkeypatch.setenv("GLEANER_KEY", "secret")
    served = Answers(httpx.Response(200, json=VERSION))
    with Client(transport=httpx.MockTransport(served)) as client:
        client.send(calls.version())
        assert repr(client) == "Client('http://elsewhere:1')"
    assert str(served.requests[0].url) == "http://elsewhere:1/readyz"
    assert served.requests[0].headers["authorization"] == "Bearer secret"


def events(*jobs: dict) -> httpx.Response:
    text = "".join(f"event: job\ndata: {json.dumps(job)}\n\n" for job in jobs)
    return httpx.Response(200, text=text, headers={"content-type": "text/event-stream"})


def test_following_picks_up_again_when_the_stream_breaks():
    done = JOB | {"state": "done", "progress": 1.0}
    transport = httpx.MockTransport(Answers(events(JOB), httpx.ReadError("broke"), events(JOB, done)))
    with Client("http://g", transport=transport) as client:
        assert [job.state for job in client.follow(7)] == [JobState.RUNNING, JobState.RUNNING, JobState.DONE]


def test_waiting_for_a_job_that_fails_raises_with_the_reason():
    reason = {"type": "x", "title": "x", "status": 422, "detail": "row 3 is wrong"}
    failed = JOB | {"state": "failed", "problem": reason}
    with Client("http://g", transport=httpx.MockTransport(Answers(events(JOB, failed)))) as client:
        with pytest.raises(JobFailedError, match=r"job 7 \(import x\) failed: row 3 is wrong") as caught:
            client.wait(7)
        assert caught.value.job.problem.detail == "row 3 is wrong"

    async def go():
        async with AsyncClient("http://g", transport=httpx.MockTransport(Answers(events(JOB, failed)))) as client:
            await client.wait(7)

    with pytest.raises(JobFailedError, match="row 3 is wrong"):
        asyncio.run(go())


@both
def test_files_are_streamed_and_counted(kind, tmp_path):
    file = tmp_path / "rows.csv"
    file.write_bytes(b"x" * 2_500_000)
    heard = []
    answer = {"upload": "u-1", "file": "rows.csv", "bytes": 2_500_000, "sha256": "0"}
    _, [request] = send(kind, calls.upload(file, on_sent=heard.append), httpx.Response(201, json=answer))
    assert request.headers["content-length"] == "2500000"
    assert heard == [1 << 20, 2 << 20, 2_500_000]


def test_a_file_that_breaks_off_goes_on_where_it_was(tmp_path):
    def broken(content: bytes):
        def chunks():
            yield content
            raise httpx.ReadError("gone")

        return chunks()

    ranges = []

    def answer(request: httpx.Request) -> httpx.Response:
        ranges.append(request.headers.get("range"))
        if len(ranges) == 1:
            return httpx.Response(200, content=broken(b"0123"))
        if len(ranges) == 2:
            return httpx.Response(206, content=broken(b"45"))
        return httpx.Response(206, content=b"6789")

    with Client(transport=httpx.MockTransport(answer)) as client:
        client.save(calls.job_file(3), tmp_path / "out")
    assert ranges == [None, "bytes=4-", "bytes=6-"]
    assert [each.read_bytes() for each in tmp_path.iterdir()] == [b"0123456789"]


def test_the_public_names_are_the_ones_promised():
    assert all(hasattr(library, name) for name in library.__all__)


async def test_the_async_client_talks_to_a_real_service(demo):
    async with AsyncClient(demo.url) as client:
        answers = await asyncio.gather(
            *[client.send(calls.recommend("for-growers", user="g-0417", n=3)) for _ in range(5)]
        )
        run = await client.send(calls.run("first-look"))
        assert (await client.wait(run.job)).state is JobState.DONE
    assert len({tuple(place.item for place in answer.list) for answer in answers}) == 1


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_what_a_newer_service_tells_is_passed_over(kind):
    newer = JOB | {"mood": "calm", "problem": {"type": "t", "title": "T", "status": 500, "detail": "d", "hue": 1}}
    job, _ = send(kind, calls.job(7), httpx.Response(200, json=newer | {"log": []}))
    assert (job.id, job.problem.detail) == (7, "d")
    assert not hasattr(job, "mood")
    refusal = {"type": "t", "title": "T", "status": 404, "detail": "there is no job 7", "balance": 30}
    with pytest.raises(NotFoundError, match="there is no job 7"):
        send(kind, calls.job(7), httpx.Response(404, json=refusal))


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_what_cannot_be_read_is_said_with_its_field(kind):
    with pytest.raises(NotUnderstoodError, match=r"^GET /v1/jobs/7 was answered .* not know: state: "):
        send(kind, calls.job(7), httpx.Response(200, json=JOB | {"state": "dreaming", "log": []}))
