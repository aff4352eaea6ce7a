"""A family that another package brings: one file and one entry point, and nothing else is told of it."""

from __future__ import annotations

import json
import os
import subprocess
import sys

FAMILY = '''
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from gleaner.core.models.baselines.popularity import SameForAll


@dataclass(repr=False)
class Alphabetical(SameForAll):
    """Items in the order of their rows."""

    family: ClassVar[str] = "alphabetical"
    feedback: ClassVar = "either"
    summary: ClassVar[str] = "the first items first"

    step: float = 1.0

    def learn(self, train, features, watch):
        self.set_scores(-self.step * np.arange(len(train.items)), train)
'''
ASK = """
import json, sys
import polars as pl
from gleaner import library
from gleaner.core.models.base.registry import FAMILIES, groups
from gleaner.service.contests.contest_schema import contest_schema
from gleaner.service.models.training import families

known = "alphabetical" in FAMILIES, "brought" in sys.modules
frame = pl.DataFrame({"who": ["u", "u", "v"], "what": ["b", "a", "c"]})
train = library.matrix(library.interactions(frame, user="who", item="what"))
fitted = library.fit(library.model("alphabetical", step=2.0), train)
print(json.dumps({
    "known, imported": known,
    "group": next(group for group, members in groups().items() if FAMILIES["alphabetical"] in members),
    "parameters, as the API tells them": next(each.params for each in families() if each.family == "alphabetical"),
    "in the schema of contest files": "alphabetical" in json.dumps(contest_schema()),
    "in the library": "alphabetical" in library.families()["family"].to_list(),
    "list of v": fitted.recommend("v", 2)["item"].to_list(),
}))
"""


def test_a_family_of_another_package_is_one_of_ours(tmp_path):
    (tmp_path / "brought.py").write_text(FAMILY)
    info = tmp_path / "brought-1.0.dist-info"
    info.mkdir()
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: brought\nVersion: 1.0\n")
    (info / "entry_points.txt").write_text("[gleaner.models]\nalphabetical = brought:Alphabetical\n")
    ran = subprocess.run(
        [sys.executable, "-c", ASK], env=os.environ | {"PYTHONPATH": os.pathsep.join([str(tmp_path), *sys.path])},
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert ran.returncode == 0, ran.stderr
    assert json.loads(ran.stdout) == {
        "known, imported": [True, False],
        "group": "from other packages",
        "parameters, as the API tells them": {"step": 1.0},
        "in the schema of contest files": True,
        "in the library": True,
        "list of v": ["b", "a"],
    }
