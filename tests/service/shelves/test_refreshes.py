"""Versions made of events, and shelves that are refreshed: what came is learned, judged, and served only if it stands."""

from __future__ import annotations

import json
import threading
from datetime import UTC, datetime, timedelta
from pathlib import Path
from types import SimpleNamespace

import polars as pl
import pytest
from sqlalchemy import text

import gleaner.demo
from gleaner.client import Client, RefusedError, calls, event_calls, model_calls, service_calls, shelf_calls
from gleaner.service.shelves.refreshing import try_proposal
from gleaner.store import jobs, refreshes
from gleaner.store.database.engine import make_engine
from gleaner.wire.contests.contest import FileRequest, PrepareSpec
from gleaner.wire.events import Change, Event
from gleaner.wire.imports import ImportRequest, Roles
from gleaner.wire.models.training import TrainRequest
from stack import Stack, wait_for

DATA = Path(gleaner.demo.__file__).parent / "data"
ROLES = Roles(user="grower", item="variety", kind="kind", time="at", value="value")
KINDS = PrepareSpec(kinds={"view": 1, "save": 3, "request": 5})
FILE = """\
shelf: {name}
candidates: [{{model: {name}.als}}]
where: stock > 0
fallback: [{{model: {name}.popular}}]
refresh: {refresh}
"""


@pytest.fixture(scope="module")
def world(demo: Stack):
    """A dataset of its own, of the demo's first weeks, with two models; the weeks after are events to come."""
    rows = pl.read_csv(DATA / "interactions.csv.gz", try_parse_dates=True).cast({"value": pl.Float64}).sort("at")
    edge = rows["at"][60_000]
    before, after = rows.filter(pl.col("at") < edge), rows.filter(pl.col("at") >= edge)
    items = pl.read_csv(DATA / "varieties.csv.gz", infer_schema=False)

    def make(name: str) -> pl.DataFrame:
        request = ImportRequest(
            interactions=demo.send_text(before.write_csv(), "rows.csv"), roles=ROLES,
            items=demo.send_text(items.write_csv(), "items.csv"),
        )  # fmt: skip
        demo.client.wait(demo.client.send(calls.import_version(name, request)).id)
        for family, params in (("als", {"rank": 16, "iterations": 5}), ("popular", {})):
            training = TrainRequest(data=name, family=family, params=params, name=f"{name}.{family}", prepare=KINDS)
            demo.client.wait(demo.client.send(model_calls.train_model(training)).id)
        return after

    return make


def publish(demo: Stack, name: str, refresh: str = "{}") -> None:
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=FILE.format(name=name, refresh=refresh))))


def report_progress(demo: Stack, data: str, rows: pl.DataFrame) -> int:
    """Rows as events of the last year: as many days ago as they are before the last."""
    shift = datetime.now(UTC) - rows["at"].max()
    events = [
        Event(id=f"{data}-{number}", user=row["grower"], item=row["variety"], kind=row["kind"], value=row["value"], time=row["at"] + shift)
        for number, row in enumerate(rows.iter_rows(named=True))
    ]  # fmt: skip
    for lo in range(0, len(events), 5000):
        demo.client.send(event_calls.send_events(data, events[lo : lo + 5000]))
    return len(events)


def refresh(demo: Stack, name: str, **more):
    return demo.client.wait(demo.client.send(shelf_calls.refresh_shelf(name, **more)).id)


def test_events_and_changed_columns_become_a_version_once(demo, world):
    rows = world("gathered").head(300)
    publish(demo, "gathered")
    before = demo.client.send(calls.dataset_version("gathered", 1))
    demo.client.send(event_calls.change_items("gathered", [Change(id="v-0010", columns={"stock": 77})]))
    assert report_progress(demo, "gathered", rows) == 300
    job = demo.client.wait(demo.client.send(event_calls.gather_events("gathered")).id)
    assert job.result == {"version": "gathered@2", "events": 300, "changed_rows": 1}
    assert job.message == "gathered@2: 300 events and changed columns of 1 row taken in"
    after = demo.client.send(calls.dataset_version("gathered", 2))
    assert (after.rows, after.roles, after.base) == (before.rows + 300, before.roles, "gathered@1")
    sql = "SELECT kind, count(*), sum(value) FROM interactions GROUP BY kind"
    old, new = ({row[0]: row[1:] for row in demo.client.send(calls.query("gathered", n, sql)).rows} for n in (1, 2))
    for kind, mine in (
        rows.group_by("kind").agg(pl.len(), pl.col("value").sum()).rows_by_key("kind", unique=True).items()
    ):
        assert new[kind][0] == old[kind][0] + mine[0]
        assert (new[kind][1] or 0) == pytest.approx((old[kind][1] or 0) + mine[1])
    stock = "SELECT stock FROM items WHERE id = 'v-0010'"
    assert demo.client.send(calls.query("gathered", 2, stock)).rows == [[77]]
    again = demo.client.wait(demo.client.send(event_calls.gather_events("gathered")).id)
    assert again.result == {"version": "gathered@2", "events": 0, "changed_rows": 0}
    assert again.message == "nothing came since gathered@2"
    # what comes later is in the next one, and nothing twice
    demo.client.send(event_calls.send_event("gathered", "g-0002", "v-0010", "view"))
    third = demo.client.wait(demo.client.send(event_calls.gather_events("gathered")).id)
    assert third.result == {"version": "gathered@3", "events": 1, "changed_rows": 0}
    # a changed column alone makes one too, with the rows as they were
    demo.client.send(event_calls.change_items("gathered", [Change(id="v-0010", columns={"stock": 5})]))
    fourth = demo.client.wait(demo.client.send(event_calls.gather_events("gathered")).id)
    assert fourth.result == {"version": "gathered@4", "events": 0, "changed_rows": 1}
    assert demo.client.send(calls.query("gathered", 4, stock)).rows == [[5]]
    last = demo.client.send(calls.dataset_version("gathered", 4))
    assert (last.rows, last.base) == (before.rows + 301, "gathered@3")


def test_what_is_in_a_version_is_not_counted_again_as_events(demo, world):
    rows = world("counted").head(400)
    report_progress(demo, "counted", rows)
    demo.client.wait(demo.client.send(event_calls.gather_events("counted")).id)
    request = TrainRequest(data="counted", family="popular", name="counted.popular", prepare=KINDS)
    demo.client.wait(demo.client.send(model_calls.train_model(request)).id)
    file = (
        "shelf: counted\ncandidates: [{model: counted.als}]\n"
        "fallback: [{popular: {days: 3000}}, {model: counted.popular}]\n"
    )
    als = request.model_copy(update={"family": "als", "name": "counted.als", "params": {"rank": 4, "iterations": 1}})
    demo.client.wait(demo.client.send(model_calls.train_model(als)).id)
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=file)))
    answer = demo.client.send(calls.recommend("counted", n=200))
    assert answer.list[0].source == "popular, 3000 days"
    sql = "SELECT item, count(*) AS n FROM interactions GROUP BY item"
    counts = dict(demo.client.send(calls.query("counted", 2, sql)).rows)
    listed = [counts[place.item] for place in answer.list]
    assert listed == sorted(listed, reverse=True)


def test_a_refresh_learns_what_came_and_can_be_taken_back(demo, world):
    rows = world("lively")
    publish(demo, "lively", "{guard: {worse_by: 0.9, least_users: 20}}")
    events = report_progress(demo, "lively", rows.head(6000))
    before = demo.client.send(calls.recommend("lively", user="g-0417", n=10))
    job = refresh(demo, "lively")
    result = job.result
    assert (result["state"], result["published"], result["data"], result["events"]) == (
        "published",
        "lively@2",
        "lively@2",
        events,
    )
    assert result["models"] == {"lively.als@1": "lively.als@2", "lively.popular@1": "lively.popular@2"}
    guard = result["guard"]
    assert guard["passed"]
    assert guard["rows_learned"] + guard["rows_held"] <= events
    # half of the rows, to a whole row and to rows of one moment
    assert guard["rows_held"] / (guard["rows_learned"] + guard["rows_held"]) == pytest.approx(0.5, abs=0.01)
    assert 0 < guard["current"]["mean"] < 1
    card = demo.client.send(calls.model("lively.als@2"))
    assert (card.data, card.parent, card.params["rank"], card.trained_on) == (
        "lively@2",
        "lively.als@1",
        16,
        "everything",
    )
    served = demo.client.send(calls.shelf("lively"))
    assert (served.number, served.spec.models()) == (2, ["lively.als@2", "lively.popular@2"])
    after = demo.client.send(calls.recommend("lively", user="g-0417", n=10))
    assert (before.version, after.version, after.model) == (1, 2, "lively.als@2")
    log = [line.text for line in demo.client.send(calls.job(job.id)).log]
    for step in (
        f"lively@2: {events:,} events taken in",
        "guard: ndcg@10 ",
        "lively.als@1 became lively.als@2",
        "lively@2 is served",
    ):
        assert any(step in line for line in log), (step, log)
    history = demo.client.send(shelf_calls.shelf_history("lively"))
    assert [serving.how for serving in history.servings] == ["refreshed", "published"]
    again = refresh(demo, "lively")
    assert (again.result["state"], again.result["reason"]) == (
        "kept", "nothing new: every model of the shelf was fitted on lively@2",
    )  # fmt: skip
    demo.client.send(shelf_calls.roll_back("lively"))
    wait_for(lambda: demo.client.send(calls.recommend("lively", user="g-0417", n=10)).model == "lively.als@1")
    code = demo.gleaner("shelf", "refreshes", "lively")
    assert (code.returncode, "published lively@2" in code.stdout, "none is planned" in code.stdout) == (0, True, True)


def test_a_guard_can_leave_out_what_lists_had_shown(demo, world):
    rows = world("echoed").head(3000)
    publish(demo, "echoed", "{guard: {judged_by: unprompted, worse_by: 0.9, least_users: 20}}")
    half = rows.filter(pl.col("kind") != "grown")[len(rows) // 2 :]
    growers = half["grower"].unique(maintain_order=True).head(150).to_list()
    lists = {user: demo.client.send(calls.recommend("echoed", user=user, n=50)).list for user in growers}
    shown = {(user, place.item) for user, places in lists.items() for place in places}
    # the log is written behind what is answered
    counted = "SELECT count(*) FROM served_lists WHERE shelf = 'echoed'"
    wait_for(lambda: demo.sql(counted)[0][0] >= len(growers))
    report_progress(demo, "echoed", rows)
    guard = refresh(demo, "echoed", only_judge=True).result["guard"]
    kept = rows.filter(pl.col("kind") != "grown")
    fresh = kept["at"].sort()
    cut = fresh[round(len(fresh) * 0.5)]
    all_rows = pl.read_csv(DATA / "interactions.csv.gz", try_parse_dates=True).filter(pl.col("kind") != "grown")
    learned = all_rows.filter(pl.col("at") < cut)
    users, items = set(learned["grower"]), set(learned["variety"])
    seen = set(learned.select("grower", "variety").iter_rows())
    judging_pairs = {
        pair for pair in kept.filter(pl.col("at") >= cut).select("grower", "variety").iter_rows()
        if pair[0] in users and pair[1] in items and pair not in seen
    }  # fmt: skip
    assert guard["rows_held"] == (fresh >= cut).sum()
    assert guard["prompted"] == len(judging_pairs & shown) > 0
    assert guard["users"] == len({user for user, _ in judging_pairs - shown}) < len({user for user, _ in judging_pairs})
    assert f"less {guard['prompted']} pairs that lists had shown" in guard["said"]


def test_what_the_guard_does_not_pass_is_not_served(demo, world):
    rows = world("guarded")
    publish(demo, "guarded", "{fit: go_on, guard: {least_users: 100000}}")
    report_progress(demo, "guarded", rows.head(2000))
    outcome = refresh(demo, "guarded").result
    assert (outcome["state"], outcome["published"], outcome["models"]) == ("kept", None, {})
    assert "the guard wants 100000; guarded@1 goes on being served" in outcome["reason"]
    assert demo.client.send(calls.shelf("guarded")).number == 1
    output = demo.gleaner("shelf", "refresh", "guarded")
    assert (output.returncode, "guard not passed: " in output.stdout) == (0, True)
    assert output.stdout.endswith("kept: guarded@1 goes on being served\n")
    # passed, but only to be judged; then for good, going on from the state of the model
    publish(demo, "guarded", "{fit: go_on, guard: {worse_by: 0.9, least_users: 20}}")
    judged = refresh(demo, "guarded", only_judge=True).result
    assert (judged["state"], judged["guard"]["passed"]) == ("kept", True)
    assert refresh(demo, "guarded").result["published"] == "guarded@3"
    card = demo.client.send(calls.model("guarded.als@2"))
    assert (card.origin, "Went on from guarded.als@1" in card.note) == ("refresh", True)


def test_the_clock_asks_for_a_refresh_once(demo, world):
    rows = world("clocked")
    publish(demo, "clocked", '{every: "* * * * *", guard: {worse_by: 0.9, least_users: 20}}')
    report_progress(demo, "clocked", rows.head(3000))
    # as if the file had been served for five minutes
    demo.sql(
        "UPDATE shelf_servings SET at = at - interval '5 minutes' WHERE shelf_id = (SELECT id FROM shelves WHERE name = 'clocked')"
    )
    actual = wait_for(lambda: demo.client.send(shelf_calls.refreshes("clocked")).refreshes.items, 60)
    first = actual[-1]
    assert first.due_at is not None
    assert (first.due_at.second, first.began_from) == (0, "clocked@1")
    wait_for(lambda: demo.client.send(calls.shelf("clocked")).number == 2, 60)
    answer = demo.client.send(shelf_calls.refreshes("clocked"))
    assert answer.refreshes.items[-1].state == "published"
    # counted from the last that was due, or from when what is served came to be, if that was later
    served = demo.client.send(shelf_calls.shelf_history("clocked")).servings[0].at
    begun = max(served, answer.refreshes.items[0].due_at)
    assert timedelta(0) < answer.next_at - begun <= timedelta(minutes=1)
    moments = [each.due_at for each in answer.refreshes.items]
    assert len(set(moments)) == len(moments)
    # a version without times ends it
    publish(demo, "clocked")
    assert demo.client.send(shelf_calls.refreshes("clocked")).next_at is None


def propose(demo: Stack, name: str, from_number: int, where: str) -> int:
    """A proposal as a job would leave it, with another condition."""
    version = demo.client.send(calls.shelf(f"{name}@1"))
    spec = version.spec.model_dump(mode="json") | {"where": where}
    version_id = demo.sql(
        "SELECT version_id FROM shelf_versions v JOIN shelves s ON s.id = v.shelf_id WHERE s.name = %s", name
    )[0][0]
    job = demo.sql(
        "INSERT INTO jobs (kind, subject, payload, state) VALUES ('refresh', %s, '{}', 'done') RETURNING id", name
    )[0][0]
    proposal = json.dumps({"spec": spec, "file": version.file, "version_id": version_id})
    query = (
        "INSERT INTO refreshes (shelf_id, job_id, from_number, state, proposal) "
        "SELECT id, %s, %s, 'proposed', %s FROM shelves WHERE name = %s RETURNING id"
    )
    return demo.sql(query, job, from_number, proposal, name)[0][0]


def state_of(demo: Stack, refresh_id: int) -> str:
    return demo.sql("SELECT state FROM refreshes WHERE id = %s", refresh_id)[0][0]


def test_a_proposal_that_does_not_stand_is_refused(demo, world):
    world("proposed")
    publish(demo, "proposed")
    for from_number, where, says in (
        (1, "stock > 1000000", "the condition holds for none of the"),
        (1, "colour = 'red'", "there is no column 'colour'"),
        (7, "stock > 0", "proposed@1 came to be served while proposed@7 was refreshed"),
    ):
        job = propose(demo, "proposed", from_number, where)
        demo.sql(f"SELECT pg_notify('gleaner_refreshes', '{job}')")
        wait_for(lambda job=job: state_of(demo, job) == "refused")
        newest = demo.client.send(shelf_calls.refreshes("proposed")).refreshes.items[0]
        assert says in newest.reason
        assert demo.client.send(calls.shelf("proposed")).number == 1


def test_a_proposal_that_nobody_was_there_to_try_is_tried_by_the_first_that_comes(demo, world):
    world("waiting")
    publish(demo, "waiting")
    proposal_id = propose(demo, "waiting", 1, "stock > 1")
    assert state_of(demo, proposal_id) == "proposed"
    demo.kill("web service")
    wait_for(lambda: state_of(demo, proposal_id) == "published", 60)
    with Client(demo.url) as client:
        assert wait_for(lambda: client.send(calls.shelf("waiting"))).spec.where == "stock > 1"


def test_what_is_published_while_a_proposal_is_tried_is_served_after_it(demo, world):
    """It must not be written over by models that a refresh fitted for the version before."""
    world("overtaken")
    publish(demo, "overtaken")
    engine = make_engine(demo.database_url)
    publishing = threading.Thread(target=publish, args=(demo, "overtaken"))
    waits = "SELECT count(*) FROM pg_stat_activity WHERE wait_event_type = 'Lock'"

    def is_waiting_or_done() -> bool:
        versions = demo.client.send(shelf_calls.shelf_history("overtaken")).versions
        return bool(demo.sql(waits)[0][0]) or len(versions) > 1

    def load(*_, **__) -> None:
        publishing.start()
        wait_for(is_waiting_or_done)

    # nobody is told of it, so that it is tried here
    [(file, spec, version_id)] = demo.sql(
        "SELECT file, spec, v.version_id FROM shelf_versions v JOIN shelves s ON s.id = v.shelf_id WHERE s.name = 'overtaken'"
    )
    with engine.begin() as connection:
        job_id = jobs.add(connection, "refresh", "overtaken", {})
        connection.execute(text("UPDATE jobs SET state = 'done' WHERE id = :id"), {"id": job_id})
        refreshes.begin(connection, "overtaken", job_id, None)
        refresh_id = refreshes.of_job(connection, job_id).id
        proposal = json.dumps({"spec": spec, "file": file, "version_id": version_id})
        sql = "UPDATE refreshes SET state = 'proposed', proposal = CAST(:proposal AS json) WHERE id = :id"
        connection.execute(text(sql), {"proposal": proposal, "id": refresh_id})
    try_proposal(engine, SimpleNamespace(load=load), refresh_id)
    publishing.join()
    engine.dispose()
    history = demo.client.send(shelf_calls.shelf_history("overtaken"))
    assert [(each.number, each.how) for each in history.servings] == [
        (3, "published"),
        (2, "refreshed"),
        (1, "published"),
    ]


def test_a_file_says_when_in_cron_text(demo, world):
    file = FILE.format(name="lively", refresh="{every: at night}")
    problems = demo.client.send(shelf_calls.check_shelf(FileRequest(file=file, name="s.yaml"))).problems
    assert [(each.line, each.field) for each in problems] == [(5, "refresh.every")]
    assert "'at night' is no cron text: minute, hour, day, month and weekday" in problems[0].message


def test_a_schedule_that_never_occurs_is_refused_and_holds_up_no_other(demo, world):
    """One that an earlier release published is reported, and the refreshes of other shelves go on."""
    world("never")
    file = FILE.format(name="never", refresh="{every: '0 0 30 2 *'}")
    check = demo.client.send(shelf_calls.check_shelf(FileRequest(file=file)))
    [problem] = check.problems
    assert (problem.field, "names no date that occurs" in problem.message) == ("refresh.every", True)
    with pytest.raises(RefusedError, match="names no date that occurs"):
        demo.client.send(shelf_calls.publish_shelf(FileRequest(file=file)))
    good = FILE.format(name="never", refresh="{every: '0 3 * * *'}")
    assert demo.client.send(shelf_calls.check_shelf(FileRequest(file=good))).next_refresh_at.hour == 3
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=good)))
    never = "{refresh,every}", '"0 0 30 2 *"'
    demo.sql(
        "UPDATE shelf_versions v SET spec = jsonb_set(spec::jsonb, %s, %s) FROM shelves s WHERE s.id = shelf_id AND s.name = 'never'",
        *never,
    )
    overview = demo.client.send(service_calls.overview())
    [shelf] = [each for each in overview.shelves if each.shelf == "never"]
    assert (shelf.next_refresh_at, shelf.never_refreshed) == (None, True)
    assert any("never" in each.text and "names no date that occurs" in each.text for each in overview.attention)
    assert demo.client.send(shelf_calls.refreshes("never")).next_at is None
    world("soon")
    publish(demo, "soon", "{every: '* * * * *'}")
    demo.sql(
        "UPDATE shelf_servings SET at = now() - interval '1 hour' FROM shelves s WHERE s.id = shelf_id AND s.name = 'soon'"
    )
    wait_for(
        lambda: demo.sql("SELECT 1 FROM refreshes r JOIN shelves s ON s.id = r.shelf_id WHERE s.name = 'soon'"), 60
    )
    publish(demo, "soon")
