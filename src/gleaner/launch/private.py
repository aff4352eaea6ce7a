"""The state folder is its owner's alone: data, uploads, logs and backups are nobody else's on this machine.

PostgreSQL runs as a user of its own where we are root. It may walk through the folder to the cluster's, which is its
own, and see nothing else on the way.
"""

from __future__ import annotations

import os
from pathlib import Path

PRIVATE = 0o077
"""What new files and folders keep from everybody else."""

FOLDERS = ("artefacts", "uploads", "staging", "cache", "meters")
FILES = ("gleaner.log", "postgres.secret", "up.lock")


def close(home: Path, walker: int | None) -> None:
    """Make the state folder where it is not there, and close it and what an older version left open.

    walker: the group that may walk through it, where PostgreSQL runs as another user.
    """
    home.parent.mkdir(parents=True, exist_ok=True)
    os.umask(PRIVATE)
    home.mkdir(exist_ok=True)
    let_through(home, walker)
    for name in FOLDERS:
        if (home / name).is_dir():
            (home / name).chmod(0o700)
    for name in FILES:
        if (home / name).is_file():
            (home / name).chmod(0o600)


def let_through(folder: Path, walker: int | None) -> None:
    """Close a folder to everybody but its owner and, for walking through, one group."""
    if walker is not None:
        os.chown(folder, -1, walker)
    folder.chmod(0o700 if walker is None else 0o710)
