"""What a Gleaner keeps is its owner's alone, also what an older version left open."""

from __future__ import annotations

import os
import pwd
import stat
import subprocess
from contextlib import suppress
from pathlib import Path

from commands import call
from stack import Stack, make_home

STRANGER = "nobody"


def open_to_others(folder: Path) -> list[str]:
    """Return what below a folder anybody may read, write or walk into. PostgreSQL removes files while they are listed."""
    paths = [folder, *(Path(above) / name for above, folders, files in os.walk(folder) for name in (*folders, *files))]
    found: list[str] = []
    for path in paths:
        with suppress(FileNotFoundError):
            mode = path.lstat().st_mode
            if not stat.S_ISLNK(mode) and mode & 0o007:
                found.append(str(path))
    return found


def test_nobody_else_on_the_machine_reads_the_state_folder(demo):
    assert (demo.home / "gleaner.log").exists()
    assert len(list((demo.home / "artefacts").rglob("*"))) > 10
    assert open_to_others(demo.home) == []
    if os.geteuid() == 0:
        stranger = pwd.getpwnam(STRANGER)
        for name in ("", "artefacts", "gleaner.log", "postgres.secret", "uploads"):
            tried = subprocess.run(
                ["/bin/ls", str(demo.home / name)], user=stranger.pw_uid, group=stranger.pw_gid, extra_groups=[],
                capture_output=True, text=True, check=False,
            )  # fmt: skip
            assert "Permission denied" in tried.stderr, name


def test_a_backup_is_its_owners_alone(demo, tmp_path):
    code, _, err = call("backup", str(tmp_path / "copy"), "--home", str(demo.home))
    assert code == 0, err
    assert open_to_others(tmp_path / "copy") == []


def test_what_was_left_open_is_closed():
    home = make_home()
    (home / "artefacts").mkdir(mode=0o755)
    (home / "gleaner.log").touch(mode=0o644)
    home.chmod(0o755)
    stack = Stack(home=home)
    try:
        assert open_to_others(home) == []
        assert stack.http.get("/healthz").status_code == 200
    finally:
        stack.stop()
