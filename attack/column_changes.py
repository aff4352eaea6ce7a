"""Column changes of every sort of value, sent with a key that may only send events: lists go on, also after a restart."""

from __future__ import annotations

import json
import random
import time
from typing import Any

import httpx

from attack.outcome import Outcome
from attack.target import Target

VALUES: tuple[Any, ...] = (
    0, -1, 5.0, 5.5, 2**31, 2**53, 2**63, -(2**64), 10**40, 1e308, True, False, None, "", "x", "\ud800", "a\0b",
    "x" * 9000, "\u2618" * 3000, "2026-02-30", "2026-02-28", "9999-12-31", "0001-01-01", "2026-01-01T00:00:00+14:00",
    "2026-01-01T25:00", [], ["a"], ["a", None], ["\ud800"], ["x" * 9000], [[]], {}, {"a": 1}, [1], "NaN", "inf",
)  # fmt: skip
RAW = ("NaN", "Infinity", "-Infinity", "1e999", '"\\ud83d"', "[" * 500 + "]" * 500)
COLUMNS = ("stock", "name", "surplus", "traits", "added_on", "credits", "no such", "id", "\ud800")
AT_LEAST = 20
"""Changes that are sent however little time there is."""

LIST = "/v1/shelves/for-growers/recommendations?user=g-0417&n=5"


def attack(target: Target, seconds: float, seed: int) -> Outcome:
    """Send changes for so long, looking at a list after each; then restart the service and look again."""
    outcome, drawn, end = Outcome("column changes"), random.Random(seed), time.monotonic() + seconds  # noqa: S311
    with httpx.Client(base_url=target.url, timeout=30) as http:
        while outcome.tried + outcome.wrong < AT_LEAST or time.monotonic() < end:
            _change(http, target, _body(drawn), outcome)
            _require_list(http, target, outcome, "after a change")
        target.kill("web service")
        target.wait_ready()
        _require_list(http, target, outcome, "after a restart")
    return outcome


def _body(drawn: random.Random) -> str:
    """A request of one or a few rows, now and then with a value that no JSON writer sends."""
    changes = [
        {
            "id": drawn.choice((f"v-{drawn.randrange(1, 800):04}", "nobody", "")),
            "columns": {drawn.choice(COLUMNS): drawn.choice(VALUES) for _ in range(drawn.randint(1, 3))},
        }
        for _ in range(drawn.choice((1, 1, 2, 300)))
    ]
    text = json.dumps({"changes": changes})
    return text.replace("5.5", drawn.choice(RAW)) if drawn.random() < 0.2 else text


def _change(http: httpx.Client, target: Target, body: str, outcome: Outcome) -> None:
    side = "items" if len(body) % 3 else "users"
    headers = target.headers("events") | {"Content-Type": "application/json"}
    answer = http.post(f"/v1/datasets/seeds/{side}/changes", content=body, headers=headers)
    if answer.status_code in (200, 422):
        outcome.count(refused=answer.status_code == 422)
    else:
        outcome.report_progress(f"{answer.status_code}", f"{body[:200]}: {answer.status_code} {answer.text[:300]}")


def _require_list(http: httpx.Client, target: Target, outcome: Outcome, when: str) -> None:
    answer = http.get(LIST, headers=target.headers("serve"))
    if answer.status_code != 200 or not answer.json()["list"]:
        outcome.report_progress(f"list {when}", f"a list {when}: {answer.status_code} {answer.text[:300]}")
