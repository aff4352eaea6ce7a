"""A backup of a running Gleaner, put back elsewhere, serves what the first served; what is damaged is not put back."""

from __future__ import annotations

import json
import shutil

import pytest

from commands import call
from gleaner.client import calls, event_calls, shelf_calls
from gleaner.core.errors import DataError
from gleaner.launch import backup as backup_module
from gleaner.launch.backup import MANIFEST, RECORDS
from gleaner.settings import Settings
from gleaner.wire.imports import Roles
from gleaner.wire.keys import KeyRequest, Scope
from stack import Stack, make_home


@pytest.fixture(scope="module")
def backup(demo, tmp_path_factory):
    from gleaner.client import service_calls

    demo.client.send(service_calls.create_key(KeyRequest(name="backed-up", scopes=[Scope.SERVE])))
    folder = tmp_path_factory.mktemp("backups") / "one"
    code, out, err = call("backup", str(folder), "--home", str(demo.home))
    assert (code, "artefacts" in out) == (0, True), err
    return folder


def test_what_was_backed_up_is_served_again(demo, backup):
    home = make_home()
    code, out, err = call("restore", str(backup), "--home", str(home))
    assert (code, "are back" in out) == (0, True), err
    again = Stack(home=home)
    try:
        for user in ("g-0417", "someone-new"):
            one, other = (
                stack.client.send(calls.recommend("for-growers@1", user=user, n=20)) for stack in (demo, again)
            )
            # events told to the demo since the backup aside, the lists are the same
            assert [p.item for p in one.list] == [p.item for p in other.list]
        sql = "SELECT kind, count(*) FROM interactions GROUP BY kind ORDER BY kind"
        assert (
            again.client.send(calls.query("seeds", 1, sql)).rows == demo.client.send(calls.query("seeds", 1, sql)).rows
        )
        assert again.client.send(calls.run("first-look@1")) == demo.client.send(calls.run("first-look@1"))
        assert again.sql("SELECT secret_sha256 FROM keys WHERE name = 'backed-up'") == demo.sql(
            "SELECT secret_sha256 FROM keys WHERE name = 'backed-up'"
        )
        history = again.client.send(shelf_calls.shelf_history("for-growers"))
        assert history.versions[-1].number == 1
    finally:
        again.stop()


def test_a_place_that_holds_something_is_not_written_over(demo, backup, tmp_path):
    code, _, err = call("backup", str(backup), "--home", str(demo.home))
    assert (code, "is there already; name another folder" in err) == (1, True)
    code, _, err = call("restore", str(backup), "--home", str(demo.home))
    assert (code, "a Gleaner runs on" in err) == (1, True)


@pytest.mark.parametrize(
    ("harm", "says"),
    [
        (lambda folder: (folder / RECORDS).write_bytes(b"x"), "the backup is damaged: records.dump does not match"),
        (lambda folder: next((folder / "artefacts").iterdir()).unlink(), "the backup is not whole: artefacts/"),
        (lambda folder: (folder / MANIFEST).write_text("{}"), "is no backup: its manifest.json cannot be read"),
    ],
)
def test_a_backup_that_is_not_whole_is_refused_before_anything_is_written(backup, tmp_path, harm, says):
    folder, home = tmp_path / "copy", tmp_path / "home"
    shutil.copytree(backup, folder)
    harm(folder)
    code, _, err = call("restore", str(folder), "--home", str(home))
    assert (code, says in err) == (1, True), err
    assert not home.exists()


def test_the_manifest_names_every_file(demo, backup):
    manifest = json.loads((backup / MANIFEST).read_text())
    assert {each.name for each in (backup / "artefacts").iterdir()} == set(manifest["artefacts"])
    assert {each.name: each.stat().st_size for each in (backup / "artefacts").iterdir()} == manifest["artefacts"]


def test_events_reach_a_version_after_a_restore_into_a_fresh_cluster(demo, tmp_path):
    """Those that were acknowledged before the backup and not yet gathered, and those that come after the restore."""
    # the old cluster has made many more transactions than the new one will have
    for _ in range(60):
        demo.sql("SELECT pg_current_xact_id()")
    demo.client.send(event_calls.send_event("seeds", "restored-user", "v-0010", "view"))
    assert call("backup", str(tmp_path / "one"), "--home", str(demo.home))[0] == 0
    home = make_home()
    assert call("restore", str(tmp_path / "one"), "--home", str(home))[0] == 0
    again = Stack(home=home)
    try:
        cursor = again.client.send(event_calls.list_events("seeds", limit=1)).next
        again.client.send(event_calls.send_event("seeds", "restored-later", "v-0011", "view"))
        assert [event.user for event in again.client.send(event_calls.list_events("seeds", after=cursor)).items] == [
            "restored-later"
        ]
        before = again.client.send(calls.dataset("seeds")).versions[0].number
        job = again.client.wait(again.client.send(event_calls.gather_events("seeds")).id)
        assert job.result["events"] >= 2
        sql = "SELECT user FROM interactions WHERE user LIKE 'restored-%' ORDER BY user"
        rows = again.client.send(calls.query("seeds", before + 1, sql)).rows
        assert rows == [["restored-later"], ["restored-user"]]
        assert again.client.wait(again.client.send(event_calls.gather_events("seeds")).id).result["events"] == 0
    finally:
        again.stop()


def test_what_is_removed_while_a_backup_is_made_is_in_it(stack, tmp_path, monkeypatch):
    """The dump names its files; that others removed them since must not leave the backup without."""
    stack.add(
        "vanishing",
        "user,item,time\nu1,i1,2026-01-01\nu2,i2,2026-01-02\n",
        Roles(user="user", item="item", time="time"),
    )
    settings = Settings(home=stack.home, database_url=stack.database_url)
    run, named = backup_module._run, set()

    def dump_then_remove(name, url, *arguments):
        run(name, url, *arguments)
        sql = "SELECT interactions_file FROM versions v JOIN datasets d ON d.id = dataset_id WHERE d.name = 'vanishing'"
        named.update(row[0] for row in stack.sql(sql))
        stack.client.send(calls.remove_version("vanishing", 1))

    monkeypatch.setattr(backup_module, "_run", dump_then_remove)
    manifest = backup_module.back_up(settings, tmp_path / "whole", lambda _: None)
    assert len(named) == 1
    assert named <= set(manifest.artefacts)
    backup_module.checked(tmp_path / "whole", lambda _: None)


def test_a_dump_that_names_more_than_was_copied_is_no_backup(stack, tmp_path, monkeypatch):
    settings = Settings(home=stack.home, database_url=stack.database_url)
    monkeypatch.setattr(backup_module, "_named_by_dump", lambda dump: {"0" * 64})
    with pytest.raises(DataError, match="the dump names 1 files that were not copied"):
        backup_module.back_up(settings, tmp_path / "part", lambda _: None)
    assert list(tmp_path.iterdir()) == []
