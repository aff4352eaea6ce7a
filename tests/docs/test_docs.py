"""The examples of the documentation are run, and whatever it names exists."""

from __future__ import annotations

import gzip
import json
import re
import runpy
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from bench import column_worlds, methods_page, quality

from demo_state import demo_home
from gleaner.cli.main import NOUNS
from gleaner.core.metrics.catalogue import METRICS
from gleaner.core.models.base.registry import FAMILIES, build
from gleaner.service.http.describe import description
from gleaner.settings import Settings
from gleaner.wire.contests.contest import ContestSpec
from gleaner.wire.shelves.shelf import ShelfSpec
from guides import run_blocks
from stack import Stack

ROOT = Path(__file__).parents[2]
PROSE = [ROOT / "README.md", ROOT / "CHANGELOG.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").rglob("*.md"))]


@pytest.fixture(scope="module")
def shown() -> Iterator[Stack]:
    """A demo used by these tests alone, for the examples make versions, events and shelves."""
    running = Stack(home=demo_home())
    yield running
    running.stop()


@pytest.mark.parametrize(("page", "expected"), [("README.md", 12), ("docs/api.md", 1)])
def test_the_examples_run_as_written(shown, tmp_path, page, expected):
    assert run_blocks(ROOT / page, shown, tmp_path) == expected


def test_every_route_is_in_the_reference():
    text = (ROOT / "docs" / "api.md").read_text()
    routes = {f"{method.upper()} {path}" for path, methods in description()["paths"].items() for method in methods}
    assert routes == set(re.findall(r"^\| `((?:GET|POST|DELETE) [^`]+)` \|", text, re.M))


def test_every_setting_is_in_the_reference():
    text = (ROOT / "docs" / "running.md").read_text()
    named = set(re.findall(r"^\| `GLEANER_(\w+)` \|", text, re.M))
    assert named == {name.upper() for name in Settings.model_fields}


def test_the_methods_page_is_what_registry_and_measurements_make_it():
    assert (ROOT / "docs" / "methods.md").read_text() == methods_page.page()
    measured = json.loads(methods_page.MEASURED.read_text())
    for world in measured.values():
        assert set(world) == {"about", "best", *FAMILIES}


def test_measured_figures_are_of_todays_defaults_on_todays_data():
    measured = json.loads(methods_page.MEASURED.read_text())
    stale = [
        f"{world}: {name}"
        for world, figures in measured.items()
        for name in FAMILIES
        if figures[name].get("params") != build(name, {}).params() or "+" not in figures[name].get("code", "")
    ]
    assert stale == [], "a default was changed: measure again with `python -m bench.quality --only FAMILY`"
    assert measured["demo"]["about"]["data"] == quality.data_hash("demo")
    columns = json.loads(methods_page.MEASURED_COLUMNS.read_text())
    for name, told in column_worlds.WORLDS.items():
        assert columns[name]["about"]["data"] == column_worlds.data_hash(column_worlds.world(told)[0])
        assert set(columns[name]["figures"]) == {"popular", *column_worlds.CONTENDERS}


def test_the_library_guide_runs_as_written(tmp_path, monkeypatch, capsys):
    monkeypatch.chdir(tmp_path)
    for name in ("interactions.csv", "varieties.csv"):
        packed = ROOT / "src" / "gleaner" / "demo" / "data" / f"{name}.gz"
        (tmp_path / name).write_bytes(gzip.decompress(packed.read_bytes()))
    text = (ROOT / "docs" / "guides" / "library.md").read_text()
    [program] = re.findall(r"```python\n(.*?)```", text, re.S)
    lines = [line for line in program.splitlines() if line.strip() and not line.strip().startswith("#")]
    assert len(lines) < 40
    names: dict[str, object] = {}
    exec(program, names)  # noqa: S102
    output = capsys.readouterr().out
    assert "best on validation: als" in output
    assert names["result"].table.filter(contender="als")["verdict"].to_list() == ["better"]
    assert names["rated"].rate("g-0417", "v-0325")["answerable"].to_list() == [True]


def test_every_metric_and_file_field_is_in_the_reference():
    metrics, files = (ROOT / "docs" / "metrics.md").read_text(), (ROOT / "docs" / "files.md").read_text()
    for name, metric in METRICS.items():
        assert f"| `{name}@k` |" in metrics if metric.at_k else f"| `{name}` |" in metrics
    for spec in (ContestSpec, ShelfSpec):
        for name, field in spec.model_fields.items():
            inner = getattr(field.annotation, "model_fields", None)
            for each in [f"{name}.{key}" for key in inner] if inner else [name]:
                assert f"`{each}`" in files, each


def test_links_and_pictures_lead_somewhere():
    for page in PROSE:
        for target in re.findall(r"\]\(([^)#\s]+)\)", page.read_text()):
            if not target.startswith("http"):
                assert (page.parent / target).exists(), f"{page.name} links to {target}"


def test_every_path_that_the_architecture_names_is_there():
    named = set(re.findall(r"`([a-z_]+(?:/[a-z_.]+)+)`", (ROOT / "docs/architecture.md").read_text()))
    assert len(named) > 40
    roots = (ROOT, ROOT / "src/gleaner")
    assert {path for path in named if not any((root / path).exists() for root in roots)} == set()


def test_every_picture_is_shown_and_they_are_few():
    shots = {path.name for path in (ROOT / "docs" / "screenshots").glob("*.png")}
    assert 0 < len(shots) < 20
    assert shots == set(re.findall(r"docs/screenshots/([\w-]+\.png)", (ROOT / "README.md").read_text()))


def test_the_consoles_types_are_the_apis(tmp_path):
    import json

    source, generated = tmp_path / "openapi.json", tmp_path / "schema.d.ts"
    source.write_text(json.dumps(description()))
    tool = ROOT / "console" / "node_modules" / ".bin" / "openapi-typescript"
    subprocess.run(
        [tool, source, "--default-non-nullable=false", "-o", generated],
        check=True,
        capture_output=True,
        cwd=ROOT / "console",
    )
    assert generated.read_text() == (ROOT / "console" / "src" / "api" / "schema.d.ts").read_text(), (
        "run `npm run schema`"
    )


def test_commands_in_the_docs_exist():
    named = {noun for page in PROSE for noun in re.findall(r"^gleaner (\w+)", page.read_text(), re.M)}
    assert named <= set(NOUNS)


def test_the_notice_names_what_is_installed_and_built_with():
    notices = runpy.run_path(str(ROOT / "docs" / "notices.py"))
    assert (ROOT / "NOTICE").read_text() == notices["notice"](), "run `python docs/notices.py`"


def test_packages_of_the_console_run_no_scripts_when_they_are_installed():
    assert "ignore-scripts=true" in (ROOT / "console" / ".npmrc").read_text().splitlines()
