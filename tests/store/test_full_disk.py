"""A disk that takes no more, by a limit on the size of files in a process of its own: whole files or none."""

from __future__ import annotations

import json
import subprocess
import sys

PROGRAM = """
import json, resource, sys
from pathlib import Path
import numpy as np
from gleaner.store.files.artefacts import ArtefactStore

home = Path(sys.argv[1])
store = ArtefactStore(str(home / "artefacts"), home / "cache")
(home / "staging").mkdir()
kept = store.put_arrays({"small": np.arange(9.0)}, home / "staging")
resource.setrlimit(resource.RLIMIT_FSIZE, (1 << 20, 1 << 20))
outcomes = []
for arrays in ({"large": np.zeros(1 << 20)}, {"small": np.arange(9.0)}):
    try:
        outcomes.append(store.put_arrays(arrays, home / "staging").sha256 == kept.sha256)
    except OSError as error:
        outcomes.append([error.errno, error.strerror, Path(error.filename).parent.name])
print(json.dumps({"outcomes": outcomes, "there": store.load_arrays(kept.sha256)["small"].tolist()}))
"""

MOVING = """
import errno, json, resource, sys
from pathlib import Path
from gleaner.store.files import artefacts

home = Path(sys.argv[1])
(home / "file").write_bytes(b"x" * (2 << 20))
store = artefacts.ArtefactStore(str(home / "artefacts"), home / "cache")

def between_disks(source, target):
    # what shutil does where a rename cannot: it copies
    with open(source, "rb") as whole, open(target, "wb") as part:
        part.write(whole.read())

artefacts.shutil.move = between_disks
resource.setrlimit(resource.RLIMIT_FSIZE, (1 << 20, 1 << 20))
try:
    store.put(home / "file", "parquet")
except OSError as error:
    left = [path.name for path in (home / "artefacts").rglob("*") if path.is_file()]
    print(json.dumps({"errno": error.errno, "left": left, "source": (home / "file").stat().st_size}))
"""


def run(program: str, home) -> dict:
    done = subprocess.run([sys.executable, "-c", program, str(home)], capture_output=True, text=True, check=True)
    return json.loads(done.stdout)


def test_arrays_that_do_not_fit_are_refused_by_name_and_leave_nothing(tmp_path):
    actual = run(PROGRAM, tmp_path)
    assert actual["outcomes"] == [[27, "File too large", "staging"], True]
    assert actual["there"] == list(range(9))
    assert list((tmp_path / "staging").iterdir()) == []
    assert len([path for path in (tmp_path / "artefacts").rglob("*") if path.is_file()]) == 1


def test_a_copy_that_breaks_off_leaves_no_part_and_keeps_the_source(tmp_path):
    assert run(MOVING, tmp_path) == {"errno": 27, "left": [], "source": 2 << 20}
