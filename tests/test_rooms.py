"""The plan of the house holds: rooms stay small, and one name means one thing."""

from __future__ import annotations

import ast
import re
from collections import Counter, defaultdict
from pathlib import Path

from gleaner.core.metrics.catalogue import METRICS

SRC = Path(__file__).parents[1] / "src/gleaner"
MOST_MODULES = 16


def modules() -> list[Path]:
    return [path for path in SRC.rglob("*.py") if path.name != "__init__.py" and "versions" not in path.parts]


def test_no_room_is_crowded():
    counts = Counter(path.parent for path in modules())
    crowded = {str(room.relative_to(SRC)): n for room, n in counts.items() if n > MOST_MODULES}
    assert crowded == {}


def test_a_class_name_means_one_thing():
    places = defaultdict(list)
    for path in modules():
        for node in ast.parse(path.read_text()).body:
            if isinstance(node, ast.ClassDef):
                places[node.name].append(str(path.relative_to(SRC)))
    assert {name: where for name, where in places.items() if len(where) > 1} == {}


def test_tests_stand_where_the_code_does():
    for layer in ("core", "jobs", "service"):
        here = Path(__file__).parent / layer
        rooms = {path.name for path in here.iterdir() if path.is_dir() and path.name != "__pycache__"}
        assert rooms <= {path.name for path in (SRC / layer).iterdir() if path.is_dir()}


CONSOLE = Path(__file__).parents[1] / "console" / "src"
LONGEST_COMPONENT = 120


def test_the_console_keeps_the_same_rules():
    sources = [path for path in CONSOLE.rglob("*.ts*") if path.name != "schema.d.ts"]
    counts = Counter(path.parent for path in sources)
    assert {str(room.relative_to(CONSOLE)): n for room, n in counts.items() if n > MOST_MODULES} == {}
    # a question to the API has one hook, and hooks stand in its room
    asking = [
        path.name
        for path in sources
        if path.parent.name != "api" and re.search(r"use(Query|Mutation)\(", path.read_text())
    ]
    assert asking == []
    # what a metric is the service says; other names of metrics are words of the page as well
    telling = [
        name for name in METRICS if name not in ("popularity", "coverage", "novelty", "hit", "map", "rmse", "gini")
    ]
    named = re.compile(rf'"({"|".join(telling)})(@|")')
    pages = [path for path in sources if path.suffix == ".tsx" and ".test." not in path.name]
    assert [path.name for path in pages if named.search(path.read_text())] == []
    for path in sources:
        for part in re.split(r"(?m)^(?=(?:export )?(?:default )?function )", path.read_text())[1:]:
            assert part.partition("\n}\n")[0].count("\n") < LONGEST_COMPONENT, (path.name, part[:60])
