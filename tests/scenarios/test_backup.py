"""A backup of a running Gleaner, put back elsewhere, serves what the first served; what is damaged is not put back."""

from __future__ import annotations

import json
import shutil

import pytest

from commands import call
from gleaner.client import calls, shelf_calls
from gleaner.launch.backup import MANIFEST, RECORDS
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
