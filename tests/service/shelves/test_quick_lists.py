"""The short way to a list: whatever is not plainly an answer is left to the application, a lost database too."""

from __future__ import annotations

import asyncio
from types import SimpleNamespace
from unittest.mock import MagicMock

import pytest
from sqlalchemy.exc import InterfaceError, OperationalError

from gleaner.service.shelves import quick_lists
from gleaner.service.shelves.quick_lists import QuickLists

GONE = [OperationalError("SELECT 1", {}, Exception()), InterfaceError("SELECT 1", {}, Exception())]


def asked_of(monkeypatch, *, allow=None, answer=None) -> tuple[list[str], list[dict]]:
    """Paths that reached the application, and what was sent past it."""
    passed, sent = [], []
    shelf = SimpleNamespace(is_quick=True, answer=answer, context_columns=[])
    service = SimpleNamespace(
        shelves=SimpleNamespace(loaded=lambda name: shelf), meters=MagicMock(), forgotten_users=SimpleNamespace(also=[])
    )

    class App:
        state = SimpleNamespace(service=service)

        async def __call__(self, scope, receive, send) -> None:
            passed.append(scope["path"])

    async def send(message) -> None:
        sent.append(message)

    monkeypatch.setattr(quick_lists, "allows_anyone", lambda headers, service: allow is None)
    monkeypatch.setattr(quick_lists, "allow", allow)
    monkeypatch.setattr(quick_lists, "body_of", lambda service, answer, record: answer)
    path = "/v1/shelves/for-growers/recommendations"
    scope = {"type": "http", "method": "GET", "path": path, "query_string": b"user=g-1", "headers": []}
    asyncio.run(QuickLists(App())(scope, None, send))
    return passed, sent


def test_a_list_is_answered_past_the_application(monkeypatch):
    passed, sent = asked_of(monkeypatch, answer=lambda request: request.user.encode())
    assert passed == []
    assert [each.get("status", each.get("body")) for each in sent] == [200, b"g-1"]


def test_a_defect_on_the_short_way_is_logged_and_the_application_is_asked(monkeypatch, caplog):
    def answer(request: object) -> bytes:
        raise ZeroDivisionError("a defect")

    passed, sent = asked_of(monkeypatch, answer=answer)
    assert (passed, sent) == (["/v1/shelves/for-growers/recommendations"], [])
    assert "ZeroDivisionError: a defect" in caplog.text


@pytest.mark.parametrize("error", GONE, ids=["operational", "interface"])
def test_a_database_that_is_gone_is_told_by_the_application(monkeypatch, caplog, error):
    async def allow(*_: object) -> None:
        raise error

    def answer(request: object) -> bytes:
        raise error

    for how in ({"allow": allow}, {"answer": answer}):
        passed, sent = asked_of(monkeypatch, **how)
        assert (passed, sent) == (["/v1/shelves/for-growers/recommendations"], [])
    # this is foreseen, and no defect
    assert caplog.text == ""
