"""Two jobs on one dataset at the same time: whatever order their steps take, nothing is lost and nobody returns.

The second job is run to its end in the midst of the first, at a step that the first reports.
"""

from __future__ import annotations

import threading
from collections.abc import Callable

import polars as pl
import psycopg
import pytest

from gleaner.client import RefusedError, calls, event_calls, export_calls, job_calls, model_calls, shelf_calls
from gleaner.jobs.datasets import forget, import_data
from gleaner.jobs.events import gather
from gleaner.jobs.worker.context import JobContext
from gleaner.settings import Settings
from gleaner.store import jobs
from gleaner.store.database.engine import make_engine
from gleaner.store.files.artefacts import ArtefactStore
from gleaner.store.files.pins import Pins
from gleaner.store.jobs import Claim
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.exports import ExportRequest
from gleaner.wire.imports import ImportRequest, Roles
from gleaner.wire.models.lists import AllRequest
from gleaner.wire.models.training import TrainRequest
from stack import Stack, wait_for

ROLES = Roles(user="user", item="item", time="time")
ROWS = "user,item,time\n" + "".join(
    f"u{n % 12},i{(n * n) % 11},2026-01-{1 + n % 28:02d}T00:00:00Z\n" for n in range(90)
)
MORE = "user,item,time\nnew-user,i1,2026-02-01T00:00:00Z\n"


class Interrupted(JobContext):
    """A job run in the test's process, in the midst of which something else happens once."""

    at: str = ""
    between: Callable[[], object] | None = None

    def report_progress(self, done: float, message: str) -> bool:
        """Do it at the step that is waited for."""
        if self.between is not None and message.startswith(self.at):
            between, self.between = self.between, None
            between()
        return True

    def log(self, text: str) -> None:
        """No job's row takes the text."""


@pytest.fixture
def run(stack: Stack, tmp_path, monkeypatch):
    """Run a job's function on a dataset and do something else once it reports a step."""
    monkeypatch.setattr(jobs, "require_current", lambda *_: None)
    monkeypatch.setattr(jobs, "finish", lambda *_, **__: True)
    engine = make_engine(stack.database_url)
    pins = Pins(engine)
    settings = Settings(home=stack.home, database_url=stack.database_url)

    def go(job: Callable[[JobContext], dict], dataset: str, payload: dict, at: str, between: Callable[[], object]):
        store = ArtefactStore(settings.artefact_root, settings.home / "cache", pins)
        context = Interrupted(Claim(0, 1, "", dataset, payload), engine, settings, store, tmp_path)
        context.at, context.between = at, between
        result = job(context)
        assert context.between is None, "the step never came"
        return result

    yield go
    pins.close()
    engine.dispose()


def users_of(stack: Stack, name: str, number: int) -> set[str]:
    return {
        row[0] for row in stack.client.send(calls.query(name, number, "SELECT DISTINCT user FROM interactions")).rows
    }


def onto(stack: Stack, name: str, base: int, text: str = MORE) -> ImportRequest:
    return ImportRequest(interactions=stack.send_text(text, "more.csv"), roles=ROLES, onto=base)


def import_more(stack: Stack, name: str, base: int, text: str = MORE) -> None:
    stack.client.wait(stack.client.send(calls.import_version(name, onto(stack, name, base, text))).id)


def send_event(stack: Stack, name: str, user: str) -> None:
    stack.client.send(event_calls.send_event(name, user, "i2"))


def test_an_import_beside_gathering_keeps_its_rows(stack, run):
    stack.add("beside-1", ROWS, ROLES)
    send_event(stack, "beside-1", "by-event")
    result = run(gather.run, "beside-1", {}, "profiling", lambda: import_more(stack, "beside-1", 1))
    assert (result["version"], result["events"]) == ("beside-1@3", 1)
    assert {"new-user", "by-event"} <= users_of(stack, "beside-1", 3)


def test_gathering_beside_an_import_keeps_its_events(stack, run):
    stack.add("beside-2", ROWS, ROLES)
    send_event(stack, "beside-2", "by-event")
    request = onto(stack, "beside-2", 1).model_dump(mode="json")
    between = lambda: stack.client.wait(stack.client.send(event_calls.gather_events("beside-2")).id)  # noqa: E731
    result = run(import_data.run, "beside-2", request, "profiling", between)
    assert result["version"] == "beside-2@3"
    assert {"new-user", "by-event"} <= users_of(stack, "beside-2", 3)


def test_two_imports_onto_the_newest_keep_the_rows_of_both(stack, run):
    stack.add("beside-3", ROWS, ROLES)
    other = "user,item,time\nother-user,i3,2026-02-02T00:00:00Z\n"
    request = onto(stack, "beside-3", 1).model_dump(mode="json")
    result = run(import_data.run, "beside-3", request, "profiling", lambda: import_more(stack, "beside-3", 1, other))
    assert result["version"] == "beside-3@3"
    assert {"new-user", "other-user"} <= users_of(stack, "beside-3", 3)


def test_an_import_onto_an_older_version_stays_on_it(stack, run):
    stack.add("beside-4", ROWS, ROLES)
    import_more(stack, "beside-4", 1)
    request = onto(stack, "beside-4", 1, "user,item,time\nlate,i3,2026-02-02T00:00:00Z\n").model_dump(mode="json")
    result = run(import_data.run, "beside-4", request, "profiling", lambda: import_more(stack, "beside-4", 2))
    assert "new-user" not in users_of(stack, "beside-4", int(result["version"].split("@")[1]))


@pytest.mark.parametrize(
    ("job", "step"), [("gather", "profiling"), ("gather", "reading events"), ("import", "profiling")]
)
def test_who_is_forgotten_meanwhile_does_not_return(stack, run, job, step):
    name = f"beside-forgotten-{job}-{step.split()[0]}"
    stack.add(name, ROWS, ROLES)
    send_event(stack, name, "u3")
    send_event(stack, name, "somebody-else")
    forget_u3 = lambda: stack.client.wait(stack.client.send(calls.forget_user(name, "u3")).id)  # noqa: E731
    if job == "gather":
        run(gather.run, name, {}, step, forget_u3)
    else:
        run(import_data.run, name, onto(stack, name, 1).model_dump(mode="json"), step, forget_u3)
    for version in stack.client.send(calls.dataset(name)).versions:
        assert "u3" not in users_of(stack, name, version.number)


@pytest.mark.parametrize("step", ["looking through the figures", "finding the models"])
def test_a_version_that_is_made_while_somebody_is_forgotten_is_without_them(stack, run, step):
    """It starts from rows that were not yet removed, and ends before they are."""
    name = f"beside-made-{step.split()[0]}"
    stack.add(name, ROWS, ROLES)
    run(forget.run, name, {"user": "u3"}, step, lambda: import_more(stack, name, 1))
    assert [version.number for version in stack.client.send(calls.dataset(name)).versions] == [2, 1]
    for number in (1, 2):
        assert "u3" not in users_of(stack, name, number)
    assert "new-user" in users_of(stack, name, 2)


def test_two_users_forgotten_at_once_are_both_gone(stack, run):
    stack.add("beside-5", ROWS, ROLES)
    other = lambda: stack.client.wait(stack.client.send(calls.forget_user("beside-5", "u4")).id)  # noqa: E731
    run(forget.run, "beside-5", {"user": "u3"}, "looking through the figures", other)
    assert not {"u3", "u4"} & users_of(stack, "beside-5", 1)


@pytest.fixture(scope="module")
def model(stack) -> str:
    stack.add("beside-model", ROWS, ROLES)
    request = TrainRequest(data="beside-model@1", family="als", params={"rank": 2, "iterations": 2}, name="beside")
    return stack.client.wait(stack.client.send(model_calls.train_model(request)).id).result["model"]


def test_a_removed_models_number_is_not_given_again(stack, model):
    """A cache, a shelf's file or somebody's notes may still name it."""
    request = TrainRequest(data="beside-model@1", family="popular", name="numbered")
    first = stack.client.wait(stack.client.send(model_calls.train_model(request)).id).result["model"]
    assert stack.client.send(calls.model_recommend(first, "u1", 3)).list
    stack.client.send(model_calls.remove_model(first))
    again = TrainRequest(data="beside-model@1", family="als", params={"rank": 2, "iterations": 2}, name="numbered")
    second = stack.client.wait(stack.client.send(model_calls.train_model(again)).id).result["model"]
    assert (first, second) == ("numbered@1", "numbered@2")
    assert stack.client.send(model_calls.model(second)).family == "als"


def test_a_file_of_a_job_holds_nobody_who_was_forgotten(stack, model, tmp_path):
    made = {
        form: stack.client.wait(
            stack.client.send(
                export_calls.export(ExportRequest(model=model, what="top-items", n=2, format=form, include_known=True))
            ).id
        )
        for form in ("parquet", "csv", "ndjson")
    }  # fmt: skip
    lists = stack.client.wait(stack.client.send(model_calls.all_lists(model, AllRequest(what="similar_users", n=3))).id)
    readers = {"parquet": pl.read_parquet, "csv": pl.read_csv, "ndjson": pl.read_ndjson}
    before = {}
    for form, job in made.items():
        stack.client.save(job_calls.job_file(job.id), tmp_path / form)
        before[form] = readers[form](tmp_path / form)
        assert "u5" in before[form]["user"].to_list()
    done = stack.client.wait(stack.client.send(calls.forget_user("beside-model", "u5")).id)
    assert done.result["files"] == 4
    for form, job in made.items():
        stack.client.save(job_calls.job_file(job.id), tmp_path / form)
        after = readers[form](tmp_path / form)
        assert after.equals(before[form].filter(pl.col("user") != "u5"))
    stack.client.save(job_calls.job_file(lists.id), tmp_path / "lists")
    similar = pl.read_parquet(tmp_path / "lists")
    assert not {"u5"} & {*similar["user"], *similar["like"]}


def test_publishing_waits_for_a_removal_and_is_then_refused(stack, model):
    """A shelf must not name a model that is gone, however close the two calls are."""
    request = TrainRequest(data="beside-model@1", family="popular", name="short-lived")
    name = stack.client.wait(stack.client.send(model_calls.train_model(request)).id).result["model"]
    file = f"shelf: short-lived\ncandidates: [{{model: {name}}}]\nfallback: [{{model: {name}}}]\n"
    outcome: list[object] = []

    def publish() -> None:
        try:
            outcome.append(stack.client.send(shelf_calls.publish_shelf(FileRequest(file=file))))
        except Exception as error:
            outcome.append(error)

    publishing = threading.Thread(target=publish)
    with psycopg.connect(stack.database_url) as removing:
        removing.execute("DELETE FROM models WHERE name = 'short-lived'")
        publishing.start()
        # it is loaded, and now waits for whoever removes the model
        waiting = "SELECT count(*) FROM pg_stat_activity WHERE %s = ANY(pg_blocking_pids(pid))"
        wait_for(lambda: stack.sql(waiting, removing.info.backend_pid)[0][0])
        removing.commit()
    publishing.join()
    [error] = outcome
    assert isinstance(error, RefusedError), error
    assert "was removed a moment ago" in str(error)
