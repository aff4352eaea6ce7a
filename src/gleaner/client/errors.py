"""The errors of the client.

ClientError
├── NoAnswerError         the service could not be reached, or the connection broke
├── RefusedError          4xx: what was asked for is wrong; carries the problem document
│   ├── DeniedError       401, 403
│   └── NotFoundError     404
├── ServiceFailedError    5xx; carries the problem document
├── NotUnderstoodError    an answer that this client cannot read; the service may be of another version
└── JobFailedError        a job that was waited for failed or was cancelled; carries the job
"""

from __future__ import annotations

from gleaner.wire.common import Problem
from gleaner.wire.jobs import Job


class ClientError(Exception):
    """Base of every error of the client."""


class NoAnswerError(ClientError):
    """There was no answer. A write may or may not have been done: repeat it with the same Idempotency-Key."""


class AnsweredError(ClientError):
    """The service answered with a problem document."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(problem.detail)
        self.problem = problem


class RefusedError(AnsweredError):
    """What was asked for is wrong."""


class DeniedError(RefusedError):
    """No key, an unknown key, or a key without the scope."""


class NotFoundError(RefusedError):
    """There is nothing of that name."""


class ServiceFailedError(AnsweredError):
    """The service could not answer."""


class NotUnderstoodError(ClientError):
    """The answer is not of the shape this client knows."""


class JobFailedError(ClientError):
    """A job ended otherwise than done."""

    def __init__(self, job: Job) -> None:
        reason = job.problem.detail if job.problem else job.message or job.state.value
        super().__init__(f"job {job.id} ({job.kind} {job.subject}) {job.state.value}: {reason}")
        self.job = job


def error_of(problem: Problem) -> AnsweredError:
    """The error that stands for a problem, by its status."""
    if problem.status in (401, 403):
        return DeniedError(problem)
    if problem.status == 404:
        return NotFoundError(problem)
    return RefusedError(problem) if problem.status < 500 else ServiceFailedError(problem)
