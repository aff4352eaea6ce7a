"""The state that the demo leaves, made once for a whole run of the tests and copied for each that starts from it."""

from __future__ import annotations

import fcntl
import os
import shutil
import subprocess
from pathlib import Path

from gleaner.demo.full import Demo
from stack import Stack, make_home

MADE_IN = "GLEANER_TEST_DEMO_STATE"
"""Names the folder of this run of the tests; the processes that share the tests find it in their environment."""


def begin() -> None:
    """Make a folder for it, and name it in the environment of the processes to come."""
    os.environ[MADE_IN] = str(make_home())


def end() -> None:
    """Remove it."""
    shutil.rmtree(os.environ.pop(MADE_IN), ignore_errors=True)


def demo_home() -> Path:
    """A state folder on which the demo has run."""
    folder = Path(os.environ[MADE_IN])
    with (folder / "lock").open("w") as lock:
        # the first makes it, and others who come meanwhile wait for that
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (folder / "made").exists():
            shutil.rmtree(folder / "home", ignore_errors=True)
            (folder / "home").mkdir(mode=0o755)
            stack = Stack(home=folder / "home")
            try:
                Demo(stack.url).run()
            finally:
                stack.stop(keep=True)
            (folder / "made").touch()
    home = make_home()
    # with its owners: part of it belongs to the user PostgreSQL runs as
    subprocess.run(["cp", "-a", f"{folder / 'home'}/.", str(home)], check=True)
    return home
