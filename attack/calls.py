"""Generated calls: each drawn from the service's own description, right and wrong ones, and sent by everybody: without
a key and with a key of each scope.

Answers feed later calls: names and numbers that the service told are put where a call names such a thing, so that
calls come in sequences, things that were made are changed, asked for and removed.
"""

from __future__ import annotations

import copy
import dataclasses
import random
import threading
import time
from collections import deque
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import hypothesis
import requests
import schemathesis
from hypothesis import HealthCheck, Phase
from schemathesis import GenerationMode
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_headers_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from attack.outcome import Outcome
from attack.target import SCOPES, Target

CHECKS = [
    not_a_server_error,
    status_code_conformance,
    content_type_conformance,
    response_headers_conformance,
    response_schema_conformance,
]
STREAMS = "/v1/jobs/{job}/events"
"""Answers as long as the job runs: asked for by the hostile list instead."""

OWN = "attack-"
"""What begins so is the campaign's own, and is not given away to be revoked."""

MOST_QUEUED = 5
LEAST, MOST, EACH_S, UNKNOWN_S = 1, 150, 1.2, 0.3
"""Calls drawn of one operation in one round: as many as take about so long; how long one takes, until it is known."""

AT_A_TIME = 6
TIDY_S = 4.0
WAIT_S = 30.0


class Pool:
    """Names and numbers that the service told, by what they are."""

    def __init__(self, seed: int) -> None:
        self.random = random.Random(seed)  # noqa: S311  it draws calls, and no secrets
        start = {
            "name": ["seeds"], "model": ["first-look.als", "first-look.popular@1"], "shelf": ["for-growers"],
            "run": ["first-look"], "job": ["1"], "number": ["1"], "user": ["g-0417"], "item": ["v-0010"],
            "data": ["seeds", "seeds@1"], "family": ["als", "popular", "item_knn"], "upload": [], "list_id": [],
            "contender": ["als"], "after": [], "metric": ["ndcg@10"], "by": ["history", "user:zone"],
        }  # fmt: skip
        self.known = {name: deque(values, maxlen=50) for name, values in start.items()}

    def learn(self, answer: Any) -> None:
        """Take names and numbers out of an answer."""
        if isinstance(answer, list):
            for each in answer[:5]:
                self.learn(each)
        if not isinstance(answer, dict):
            return
        for name, value in list(answer.items())[:40]:
            into = {"next": "after", "list": "list_id", "id": "job", "item": "item", "user": "user"}.get(name, name)
            usable = isinstance(value, (str, int)) and not isinstance(value, bool)
            if into in self.known and usable and not str(value).startswith(OWN):
                self.known[into].append(str(value))
            self.learn(value)

    def put(self, given: dict[str, Any] | None) -> dict[str, Any]:
        """The same parameters, some of them with what is known in their place."""
        body = dict(given or {})
        for name in body:
            if self.known.get(name) and self.random.random() < 0.6:
                body[name] = self.random.choice(list(self.known[name]))
        return body


def attack(target: Target, seconds: float, seed: int) -> Outcome:
    """Send generated calls for so long."""
    outcome = Outcome("generated calls, each by six callers")
    document = requests.get(f"{target.url}/openapi.json", headers=target.headers("admin"), timeout=WAIT_S).json()
    schema = schemathesis.openapi.from_dict(document)
    read: list[Any] = list(schema.get_all_operations())
    operations = [each.ok() for each in read]
    operations = [each for each in operations if each.path != STREAMS]
    pool, end, tidied, turns = Pool(seed), time.monotonic() + seconds, time.monotonic(), 0
    order = random.Random(seed)  # noqa: S311
    takes: dict[str, float] = {}
    with ThreadPoolExecutor(AT_A_TIME) as callers:
        sender = Sender(target, pool, outcome, callers)
        while time.monotonic() < end:
            order.shuffle(operations)
            for operation in operations:
                if time.monotonic() > end:
                    break
                if time.monotonic() - tidied > TIDY_S:
                    _tidy(target)
                    tidied = time.monotonic()
                mode = GenerationMode.POSITIVE if turns % 2 == 0 else GenerationMode.NEGATIVE
                # what answers quickly is tried more often than what takes long
                many = max(LEAST, min(MOST, int(EACH_S / takes.get(operation.label, UNKNOWN_S))))
                begun, cases = time.monotonic(), list(_drawn(operation, mode, seed + turns, many))
                for case in cases:
                    sender.send(case)
                takes[operation.label] = (time.monotonic() - begun) / max(1, len(cases))
            turns += 1
    slowest = sorted(takes, key=lambda label: -takes[label])[:3]
    outcome.notes.append(f"{len(operations)} operations, {turns} rounds; slowest: {', '.join(slowest)}")
    return outcome


def _drawn(operation: Any, mode: GenerationMode, seed: int, many: int) -> Iterator[Any]:
    """Some calls of one operation."""
    drawn: list[Any] = []

    @hypothesis.seed(seed)
    @hypothesis.settings(
        max_examples=many, database=None, phases=[Phase.generate], deadline=None,
        suppress_health_check=list(HealthCheck), print_blob=False,
    )  # fmt: skip
    @hypothesis.given(case=operation.as_strategy(generation_mode=mode))
    def draw(case: Any) -> None:
        drawn.append(case)

    try:
        draw()
    except hypothesis.errors.Unsatisfiable:
        return
    yield from drawn


class Sender:
    """Sends calls, each by everybody, some at a time."""

    def __init__(self, target: Target, pool: Pool, outcome: Outcome, callers: ThreadPoolExecutor) -> None:
        self.target, self.pool, self.outcome, self.callers = target, pool, outcome, callers
        self._own = threading.local()

    @property
    def session(self) -> requests.Session:
        """The connections of one thread."""
        if not hasattr(self._own, "session"):
            self._own.session = requests.Session()
        return self._own.session

    def send(self, case: Any) -> None:
        """One call, by everybody."""
        case.path_parameters = self.pool.put(case.path_parameters)
        case.query = self.pool.put(case.query)
        if isinstance(case.body, dict):
            case.body = self.pool.put(case.body)
        # what a generated call says of itself must not stand for the key that it is sent with
        case.headers = {k: v for k, v in (case.headers or {}).items() if k.lower() not in ("authorization", "cookie")}
        if not _ends_the_campaign(case):
            list(self.callers.map(lambda scope: self._as(case, scope), (None, *SCOPES)))

    def _as(self, case: Any, scope: str | None) -> None:
        case = _own(case)
        label, headers = f"{case.method} {case.path} as {scope or 'nobody'}", self.target.headers(scope)
        try:
            answer = case.call(
                base_url=self.target.url, headers=headers, session=self.session, timeout=WAIT_S, allow_redirects=False
            )
        except requests.RequestException as error:
            sort = f"{case.method} {case.path} {type(error).__name__}"
            self.outcome.report_progress(sort, f"{label}: {type(error).__name__}: {error}")
            return
        except (UnicodeError, ValueError):
            # the client cannot send this, so no service ever sees it
            return
        self.outcome.count(refused=answer.status_code >= 400)
        _judge(case, answer, label, self.outcome)
        if scope == "admin" and answer.status_code < 300 and "json" in answer.headers.get("content-type", [""])[0]:
            self.pool.learn(answer.json())


def _own(case: Any) -> Any:
    """A copy for one thread: sending a case notes in it what was changed, which two threads must not do at once."""
    own = object.__new__(type(case))
    # set past its own __setattr__, which asks what it already holds
    for field in dataclasses.fields(case):
        object.__setattr__(own, field.name, getattr(case, field.name))
    object.__setattr__(own, "_meta", copy.deepcopy(case._meta))
    return own


def _judge(case: Any, answer: Any, label: str, outcome: Outcome) -> None:
    if answer.status_code == 503:
        outcome.report_progress(f"503 {case.method} {case.path}", f"{label}: {answer.text[:200]}")
        return
    try:
        case.validate_response(answer, checks=CHECKS)
    except BaseExceptionGroup as failures:
        for failure in failures.exceptions:
            text = " ".join(str(failure).split())
            sort = f"{case.method} {case.path} {answer.status_code} {type(failure).__name__}"
            outcome.report_progress(sort, f"{label}: {answer.status_code} {text[:300]}: {answer.text[:300]}")


def _ends_the_campaign(case: Any) -> bool:
    """Whether a call would take away what all others need."""
    parameters = case.path_parameters or {}
    takes_keys = case.path.startswith("/v1/keys/") and str(parameters.get("name", "")).startswith(OWN)
    takes_data = case.method == "DELETE" and "/versions/" in case.path and parameters.get("name") == "seeds"
    return takes_keys or takes_data


def _tidy(target: Target) -> None:
    """Cancel jobs that wait, but for some: most of what is asked for would never be looked at."""
    with target.client() as admin:
        queued = admin._http.get("/v1/jobs", params={"state": "queued", "limit": 500}).json().get("items", [])
        for job in queued[:-MOST_QUEUED]:
            admin._http.post(f"/v1/jobs/{job['id']}/cancel")
