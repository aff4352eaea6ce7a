"""Files that come with the package: the data of the example, and what is done with it."""

from __future__ import annotations

import gzip
import shutil
from importlib import resources
from pathlib import Path

from gleaner.wire.imports import Roles

DATASET = "seeds"
ROLES = Roles(user="grower", item="variety", kind="kind", time="at", value="value")
TABLES = {"interactions": "interactions.csv", "items": "varieties.csv", "users": "growers.csv"}


def shipped(name: str) -> str:
    """The text of a file that comes with the demo."""
    return resources.files("gleaner.demo").joinpath("data", name).read_text(encoding="utf-8")


def unpack(name: str, folder: Path) -> Path:
    """Unpack a shipped file into a folder."""
    target = folder / name
    packed = resources.files("gleaner.demo").joinpath("data", name + ".gz")
    with packed.open("rb") as source, gzip.open(source) as plain, target.open("wb") as out:
        shutil.copyfileobj(plain, out)
    return target
