"""Whoever was forgotten leaves the memory of serving processes, also of one that was not told."""

from __future__ import annotations

from gleaner.client import calls, event_calls
from gleaner.service.http.state import Service
from gleaner.settings import Settings
from gleaner.wire.shelves.shelf import RecommendRequest

USER = "to-be-forgotten"


def test_a_lost_notice_keeps_nobody(demo, tmp_path):
    for item in ("v-0010", "v-0072"):
        demo.client.send(event_calls.send_event("seeds", USER, item, "view"))
    service = Service.open(
        Settings(home=tmp_path, database_url=demo.database_url, artefacts=str(demo.home / "artefacts"))
    )
    try:
        service.forgotten_users.look()
        shelf = service.shelves.get("for-growers")
        stand_in = shelf.answer(RecommendRequest(user=USER, n=3)).stand_in
        assert (stand_in.fallback, stand_in.folded_in is not None) == (None, True)
        [(dataset_id,)] = demo.sql("SELECT id FROM datasets WHERE name = 'seeds'")
        rows = service.live.rows(dataset_id)
        past = service.library.past(1)
        assert [row.item for row in rows.of(USER)] == ["v-0010", "v-0072"]
        others = len(rows) - 2
        # another process forgets the user, and this one does not listen
        job = demo.client.wait(demo.client.send(calls.forget_user("seeds", USER)).id)
        assert job.result["events"] == 2
        service.forgotten_users.look()
        assert (rows.of(USER), len(rows)) == ([], others)
        assert USER not in rows.users()
        assert service.shelves.get("for-growers") is not shelf
        assert service.library.past(1) is not past
        assert service.shelves.get("for-growers").answer(RecommendRequest(user=USER, n=3)).stand_in.folded_in is None
        # nothing happened since: nothing is read again
        shelf = service.shelves.get("for-growers")
        service.forgotten_users.look()
        assert service.shelves.get("for-growers") is shelf
    finally:
        service.close()
