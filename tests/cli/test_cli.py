"""The command as people run it: output, exit codes, messages."""

from __future__ import annotations

import json
import os
import re
from pathlib import Path

import click
import pytest
from click.testing import CliRunner

from gleaner.cli.contests.leaderboard import _bar
from gleaner.cli.main import NOUNS, command
from gleaner.demo.shipped import shipped, unpack
from gleaner.wire.contests.runs import Figure


def every_command() -> list[tuple[str, click.Command]]:
    result = []
    for noun in NOUNS:
        group = command.get_command(click.Context(command), noun)
        if isinstance(group, click.Group):
            result += [(f"{noun} {name}", each) for name, each in group.commands.items()]
        else:
            result.append((noun, group))
    return result


@pytest.mark.parametrize(("name", "each"), every_command(), ids=[name for name, _ in every_command()])
def test_every_command_shows_an_example_and_speaks_json(name, each):
    shown = CliRunner().invoke(command, [*name.split(), "--help"])
    assert shown.exit_code == 0
    assert re.search(rf"Examples?:\n\s+gleaner {name}", shown.output), shown.output
    if name not in ("up", "demo"):
        assert "--json" in shown.output
    noun_help = CliRunner().invoke(command, [name.split()[0], "--help"])
    assert noun_help.exit_code == 0


def test_help_is_instant_because_it_imports_nothing_heavy():
    import subprocess
    import sys

    code = "import sys, gleaner.cli.main; print([m for m in ('numpy', 'polars', 'httpx', 'rich', 'pydantic') if m in sys.modules])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"


def test_a_command_that_asks_the_service_loads_the_client_and_nothing_heavier(stack):
    import subprocess
    import sys

    code = (
        "import sys; from gleaner.cli.main import command; command(['data', 'list', '--json'], standalone_mode=False); "
        "heavy = [m for m in ('numpy', 'polars', 'asyncio') if m in sys.modules]; "
        "light = ('errors', 'metrics', 'metrics.catalogue'); "
        "print(heavy + [m for m in sys.modules if m.startswith('gleaner.core.') and m[13:] not in light])"
    )
    environment = {**os.environ, "GLEANER_URL": stack.url}
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, env=environment)
    assert done.stdout.splitlines()[-1] == "[]"


def test_from_a_file_to_a_recommendation(demo, tmp_path):
    rows, items = unpack("interactions.csv", tmp_path), unpack("varieties.csv", tmp_path)
    done = demo.gleaner(
        "data", "add", "cli-seeds", str(rows), "--user", "grower", "--item", "variety", "--kind", "kind",
        "--time", "at", "--value", "value", "--items", str(items),
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert "cli-seeds@1  90,000 rows, 1,500 users, 898 items" in done.stdout
    assert "kinds" in done.stdout
    assert "view 52,761, save 16,999, request 14,637, grown 5,603" in done.stdout
    contest = tmp_path / "c.yaml"
    contest.write_text(shipped("first-look.yaml").replace("seeds@1", "cli-seeds").replace("first-look", "cli-look"))
    done = demo.gleaner("contest", "run", str(contest), "--json")
    assert done.returncode == 0, done.stderr
    run = json.loads(done.stdout)
    assert run["winner"] == "als"
    assert run["data"] == "cli-seeds@1"
    done = demo.gleaner("contest", "show", "cli-look")
    assert re.search(r"1\s+als ★\s+0\.0837\s+.*┊.*●.*better \(\+0\.0502\)", done.stdout)
    assert "training: 67,518 rows" in done.stdout
    assert "★ best on ndcg@10 of the validation part: als, registered as cli-look.als@1" in done.stdout
    shelf = tmp_path / "s.yaml"
    text = shipped("for-growers.yaml").replace("first-look", "cli-look").replace("for-growers", "cli-shelf")
    # this dataset has no table of users
    shelf.write_text(text.replace("user_columns: [zone]", "user_columns: []"))
    assert "cli-shelf@1 is served now" in demo.gleaner("shelf", "publish", str(shelf)).stdout
    tried = json.loads(demo.gleaner("shelf", "try", "cli-shelf", "--user", "g-0417", "-n", "3", "--json").stdout)
    answer = json.loads(
        demo.gleaner("model", "recommend", "cli-look.als", "--user", "g-0417", "-n", "3", "--json").stdout
    )
    assert [place["item"] for place in tried["list"]] == [place["item"] for place in answer["list"]]


LISTED = {
    "data list": "seeds@1   90,000   1,500     898",
    "data show seeds@1": "the most popular tenth of items holds 56% of rows",
    "contest list": "first-look@1",
    "contest show first-look@1": "scored on 897 users with 2,648 new items",
    "model list": "first-look.als@1",
    "model show first-look.als": "1,347 users x 826 items, 31,520 cells",
    "model recommend first-look.als --user g-0417 -n 3": "11 items they have already are left out",
    "model recommend first-look.als --user g-0417 --where surplus": "the condition holds for",
    "model recommend first-look.als --item v-0007 -n 2": "for someone new",
    "model recommend first-look.als --item v-0007 --value 5 --item v-0012 --value 1 -n 2": "for someone new",
    "model recommend first-look.als --user g-0417 --user nobody -n 2": "not known to training: nobody",
    "model audience first-look.als --item v-0007 -n 3": "users for v-0007",
    "model audience first-look.als --user g-0417 -n 3": "users for the new item",
    "model similar first-look.als --item v-0007 -n 3": "items like v-0007, by cosine of item factors",
    "model explain first-look.als --user g-0417 --item v-0007": "sum of adds",
    "model explain first-look.popular --user g-0417 --item v-0007": "not a sum of the history",
    "model factors first-look.als": "32 factors, turned to their principal axes",
    "model families": "factorisation, implicit",
    "model train seeds als --estimate": "als on 1,500 users, 898 items, 90,000 rows: about",
    "shelf list": "Seeds you may like",
    "shelf show for-growers": "models: first-look.als@1, first-look.popular@1",
    "shelf try for-growers --user g-0417": "left out: 11 known",
    "shelf try for-growers": "no user was named, and no recent items were given",
    "shelf try for-growers --recent v-0544 -n 2": "no user was named; computed from 1 recent item",
    "job list": "import seeds",
    "job show 1": "attempt 1 begins",
    "job watch 1": "seeds@1: 90,000 rows, 1,500 users, 898 items",
}


@pytest.mark.parametrize("line", LISTED)
def test_what_commands_print(demo, line):
    done = demo.gleaner(*line.split())
    assert (done.returncode, done.stderr) == (0, "")
    assert LISTED[line] in done.stdout
    as_json = demo.gleaner(*line.split(), "--json")
    json.loads(as_json.stdout)


@pytest.mark.parametrize(("line", "code"), [("model list", 0), ("data show nope", 1), ("modle list", 2)])
def test_a_shell_gets_the_same_as_the_tests_calls(demo, line, code):
    called, ran = demo.gleaner(*line.split()), demo.gleaner_process(*line.split())
    assert (ran.returncode, ran.stdout, ran.stderr) == (code, called.stdout, called.stderr)


REFUSED = {
    "data show nope": (1, "gleaner: there is no dataset 'nope'"),
    "data show seeds@7": (1, "gleaner: there is no dataset version 'seeds@7'; its newest is seeds@1"),
    "model recommend nope --user x": (1, "gleaner: there is no model 'nope'"),
    "model recommend first-look.als --user nobody": (
        1,
        "user 'nobody' is not in the training data, and no recent items were given; a shelf answers for anybody",
    ),
    "model recommend first-look.als --user g-0417 -n 0": (2, "Invalid value for '-n': 0 is not in the range"),
    "model recommend first-look.als --user g-0417 --where stok>0": (
        1,
        "gleaner: character 1: there is no column 'stok'",
    ),
    "shelf try nope": (1, "gleaner: there is no shelf 'nope'"),
    "shelf try for-growers -n -1": (1, "gleaner: n: Input should be greater than or equal to 1"),
    "shelf try for-growers -n 1001": (1, "gleaner: n: Input should be less than or equal to 1000"),
    "job cancel 1": (1, "gleaner: job 1 has ended already (done)"),
    "job watch 99999": (1, "gleaner: there is no job 99999"),
    "model recommend first-look.als": (2, "give --user, or --item for someone new"),
    "model audience first-look.als": (2, "give --item, or --user for a new item"),
    "model similar first-look.als": (2, "give --item or --user"),
    "model rate first-look.als --user a": (2, "give --user and --item, or --pairs"),
    "model rate first-look.als --user a --item b": (
        1,
        "ranks: it predicts no values, as als_values does, and has no likelihood",
    ),
    "model train seeds als --set rank": (2, "--set takes NAME=VALUE, not 'rank'"),
    "model train seeds als --set rank=0": (1, "rank must be a whole number of at least 1"),
    "model train seeds als --name Bad": (2, "gleaner: name: a name has lower-case letters, digits, - and _"),
    "model export first-look.popular --form onnx --out never.onnx": (1, "is no factor model: export it as a folder"),
    "modle list": (2, "There is no command 'modle'. Did you mean 'model'?"),
    "data add x /no/such/file --user u --item i": (2, "there is no file '/no/such/file'"),
    "data show seeds@x": (2, "'seeds@x' does not name a version such as seeds@1"),
    "simulate --users 0 --out x": (2, "users must be a whole number of at least 2"),
}


@pytest.mark.parametrize("line", REFUSED)
def test_mistakes_get_a_clear_answer_and_a_code(demo, line):
    code, message = REFUSED[line]
    done = demo.gleaner(*line.split())
    assert (done.returncode, done.stdout) == (code, "")
    assert message in done.stderr
    assert "Traceback" not in done.stderr


def test_a_failed_job_exits_with_three(demo, tmp_path):
    file = tmp_path / "rows.csv"
    file.write_text("user,item,value\nu,a,1\nu,b,lots\n")
    done = demo.gleaner("data", "add", "x", str(file), "--user", "user", "--item", "item", "--value", "value")
    assert done.returncode == 3
    assert "failed: rows.csv row 3: value 'lots' is not a number" in done.stderr


def test_roles_come_from_options_or_a_file(demo, tmp_path):
    rows, roles = tmp_path / "rows.csv", tmp_path / "roles.yaml"
    rows.write_text("who\twhat\nu\ta\n")
    roles.write_text("user: who\nitem: what\n")
    done = demo.gleaner("data", "add", "mapped", str(rows), "--map", str(roles), "--sep", "\\t", "--json")
    assert json.loads(done.stdout)["roles"]["user"] == "who"
    done = demo.gleaner("data", "add", "mapped", str(rows), "--user", "who")
    assert (done.returncode, "proposed, not confirmed: add --item what, or --yes" in done.stderr) == (2, True)
    done = demo.gleaner("data", "add", "mapped", str(rows), "--user", "who", "--item", "who")
    assert (done.returncode, "column 'who' is given two roles: user and item" in done.stderr) == (2, True)
    done = demo.gleaner("data", "add", "mapped", str(rows), "--user", "who", "--item", "what", "--sep", "::")
    assert (done.returncode, "the separator seems to be tab, not '::'" in done.stderr) == (3, True)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("kinds: {view: 1}\n", "must hold `prepare`, `split` or `seed`"),
        ("prepare: {kinds: {view: 1}}\nsplitt: {by: time}\n", "'splitt' is none of prepare, split, seed"),
        ("prepare: {kindz: {view: 1}}\n", "prepare.kindz: there is no field 'kindz' here; did you mean 'kinds'?"),
        ("prepare: [\n", "is not YAML"),
    ],
)
def test_a_file_for_training_that_says_nothing_known_is_refused(demo, tmp_path, text, message):
    file = tmp_path / "how.yaml"
    file.write_text(text)
    done = demo.gleaner("model", "train", "seeds", "als", "--prepare", str(file), "--estimate")
    assert (done.returncode, message in done.stderr) == (2, True), done.stderr


EVERYTHING = """
interactions:
  file: rows.dat
  separator: "::"
  header: false
roles: {user: f0, item: f1, value: f2}
items: {file: items.csv, id: code, types: {traits: categories |}}
scale: [1, 5]
"""


def test_a_mapping_file_names_everything(demo, tmp_path):
    (tmp_path / "rows.dat").write_text("u1::a::3\nu2::b::9\n")
    (tmp_path / "items.csv").write_text("code,traits\na,x|y\nb,y\n")
    mapping = EVERYTHING + "outside: clip\n"
    (tmp_path / "map.yaml").write_text(mapping)
    done = demo.gleaner("data", "add", "mapped-whole", "--map", str(tmp_path / "map.yaml"), "--json")
    version = json.loads(done.stdout)
    assert (version["rows"], version["item_columns"][1]["type"]) == (2, "categories")
    assert [finding["code"] for finding in version["report"]["findings"]] == ["scale"]
    (tmp_path / "map.yaml").write_text(mapping.replace("scale: [1, 5]", "scale: [5, 1]\nstrictnes: normal"))
    done = demo.gleaner("data", "add", "mapped-whole", "--map", str(tmp_path / "map.yaml"))
    message = "map.yaml:9: strictnes: there is no field 'strictnes' here; did you mean 'strictness'?"
    assert (done.returncode, message in done.stderr) == (2, True)
    (tmp_path / "map.yaml").write_text(mapping.replace('separator: "::"', 'separator: "::"\n  parts: {a: x}'))
    done = demo.gleaner("data", "add", "mapped-whole", "--map", str(tmp_path / "map.yaml"))
    message = "map.yaml:5: interactions.parts: 'parts' does not belong here, but at the top"
    assert (done.returncode, message in done.stderr) == (2, True), done.stderr
    # without rows the roles are those of the version, and which one that is must be plain before it is asked for
    (tmp_path / "map.yaml").write_text("items: {file: i.csv}\nonto: one\n")
    done = demo.gleaner("data", "add", "mapped-whole", "--map", str(tmp_path / "map.yaml"))
    assert (done.returncode, "map.yaml:2: onto: " in done.stderr) == (2, True), done.stderr
    (tmp_path / "map.yaml").write_text("interactions: [")
    done = demo.gleaner("data", "add", "mapped-whole", "--map", str(tmp_path / "map.yaml"))
    assert (done.returncode, "map.yaml:1: this is not YAML" in done.stderr) == (2, True)


@pytest.mark.parametrize(
    ("line", "code", "message"),
    [
        ("data profile seeds", 0, "Mean value by item"),
        ("data preview seeds --table items --where stock<3 -n 2", 0, "days_to_harvest"),
        ("data preview seeds --where nope=1", 1, "there is no column 'nope'"),
        ("data item seeds v-0784 -n 2", 0, "Sandpiper Gold Maize"),
        ("data overlap seeds g-0616 g-1178", 0, "0.23"),
        ("data features seeds --table users", 0, "one-hot of 6 categories, missing as one of its own"),
        ("data split seeds {plan}", 0, "leak check, test: no row is on both sides"),
        ("data remove seeds", 2, "Which version of seeds? Write seeds@1."),
        ("data remove seeds@1 --yes", 1, "is what shelf 'for-growers' serves with"),
        ("data forget seeds --user nobody --yes", 3, "no version of seeds has this user"),
        ("data sql seeds SELECT --out x.xlsx", 2, "ends neither in .csv nor in .parquet"),
        ("data compare seeds@1 seeds@1", 0, "the same content"),
        ("data add x {plan} --type nope --user u --item i", 2, "is not like items.traits="),
        ("data add x {plan} --onto y@1 --user u --item i", 2, "'y@1' is no version of x"),
        ("data add x", 2, "Which file?"),
    ],
)
def test_looking_at_data_from_the_command_line(demo, tmp_path, line, code, message):
    plan = tmp_path / "plan.yaml"
    plan.write_text("split: {by: time}\n")
    done = demo.gleaner(*line.format(plan=plan).split())
    assert (done.returncode, message in done.stdout + done.stderr) == (code, True), done.stdout + done.stderr


def test_tables_are_written_to_files(demo, tmp_path):
    done = demo.gleaner("data", "export", "seeds@1", "--out", str(tmp_path / "whole"), "--json")
    assert sorted(json.loads(done.stdout)["files"]) == ["interactions", "items", "users"]
    assert (tmp_path / "whole" / "items.parquet").read_bytes()[:4] == b"PAR1"
    out = tmp_path / "zones.csv"
    done = demo.gleaner("data", "sql", "seeds", "SELECT zone FROM users WHERE id = 'g-0001'", "--out", str(out))
    assert (done.returncode, out.read_text()) == (0, "zone\nZ6\n")


def test_every_mistake_of_a_file_is_listed(demo, tmp_path):
    file = tmp_path / "bad.yaml"
    file.write_text("contest: x\ndata: seeds\ncontenders:\n  - als: {rank: 0}\n  - nope\n")
    done = demo.gleaner("contest", "run", str(file))
    assert done.returncode == 1
    first, *mistakes = done.stderr.strip().splitlines()
    assert first == "gleaner: bad.yaml: 2 mistakes"
    rank, family = (each.strip() for each in mistakes)
    assert rank.startswith("bad.yaml:4: contenders.0.als.rank: rank must be a whole number of at least 1")
    assert family.startswith("bad.yaml:5: contenders.1: there is no model family 'nope'; ")
    file.write_text("contest: x\ndata: seeds\ncontenders: [item_kn]\n")
    assert "'item_kn'; did you mean 'item_knn'?" in demo.gleaner("contest", "run", str(file)).stderr


def test_publishing_lists_every_mistake_as_checking_does(demo, tmp_path):
    file = tmp_path / "shelf.yaml"
    models = "candidates:\n  - model: first-look.alz\nfallback:\n  - model: first-look.populr\n"
    file.write_text(f"shelf: wrong\n{models}")
    checked, published = (demo.gleaner("shelf", how, str(file)) for how in ("check", "publish"))
    assert (checked.returncode, published.returncode) == (1, 1)
    for done in (checked, published):
        text = done.stdout + done.stderr
        for line, name, meant in ((3, "alz", "first-look.als"), (5, "populr", "first-look.popular")):
            [message] = [each for each in text.splitlines() if f"first-look.{name}'" in each]
            assert f"shelf.yaml:{line}: " in message
            assert f"did you mean '{meant}'?" in message


def test_a_version_tells_its_missing_cells_by_column(demo, tmp_path):
    (tmp_path / "rows.csv").write_text("user,item,value\nu1,a,1\nu2,b,\nu3,a,\n")
    (tmp_path / "items.csv").write_text("item,family,sown\na,pea,\nb,,\n")
    files = [str(tmp_path / "rows.csv"), "--items", str(tmp_path / "items.csv")]
    done = demo.gleaner("data", "add", "holes", *files, "--user", "user", "--item", "item", "--value", "value")
    assert done.returncode == 0, done.stderr
    [row] = [each for each in demo.gleaner("data", "show", "holes").stdout.splitlines() if "missing cells" in each]
    assert row.split("missing cells")[1].strip() == "value 2, items.family 1, items.sown 2"
    # a missing cell is not one more value
    columns = json.loads(demo.gleaner("data", "show", "holes", "--json").stdout)["item_columns"]
    assert {each["name"]: each["distinct"] for each in columns} == {"id": 2, "family": 1, "sown": 0}


def test_keys_from_the_command_line(demo):
    key = json.loads(demo.gleaner("key", "create", "cli-key", "--scope", "serve", "--json").stdout)
    done = demo.gleaner("model", "list", GLEANER_KEY=key["secret"])
    assert (done.returncode, "needs a key with the scope build" in done.stderr) == (1, True)
    assert "cli-key" in demo.gleaner("key", "list").stdout
    assert "is revoked" in demo.gleaner("key", "revoke", "cli-key").stdout
    assert key["secret"] not in demo.gleaner("key", "list", "--json").stdout


def test_a_service_that_is_not_there_is_named(demo):
    done = demo.gleaner("data", "list", GLEANER_URL="http://127.0.0.1:9")
    assert done.returncode == 1
    assert "no answer from http://127.0.0.1:9" in done.stderr


def test_a_second_up_on_the_same_folder_or_port_is_refused(demo, tmp_path):
    done = demo.gleaner("up", "--home", str(demo.home))
    assert (done.returncode, "gleaner is running already on the state folder" in done.stderr) == (1, True)
    done = demo.gleaner("up", "--home", str(tmp_path), "--port", demo.url.rsplit(":", 1)[1])
    assert (done.returncode, "Address already in use; choose another with --port" in done.stderr) == (1, True)


@pytest.mark.parametrize(
    ("figure", "popular", "expected"),
    [((0.2, 0.3, 0.4), 0.1, " ┊─●─"), ((0.1, 0.1, 0.1), 0.1, " ●   "), ((0.0, 0.2, 0.4), None, "──●──")],
)
def test_the_interval_is_drawn_to_scale(figure, popular, expected):
    low, mean, high = figure
    assert _bar(Figure(metric="m", part="test", low=low, mean=mean, high=high), popular, 0.4, 5) == expected


def test_simulated_worlds_are_written(demo, tmp_path):
    done = demo.gleaner(
        "simulate", "--users", "40", "--items", "30", "--interactions", "500", "--out", str(tmp_path), "--json"
    )
    assert json.loads(done.stdout) == {"interactions.csv": 500, "varieties.csv": 30, "growers.csv": 40}
    assert sorted(path.name for path in Path(tmp_path).iterdir()) == [
        "growers.csv", "interactions.csv", "truth.safetensors", "varieties.csv",
    ]  # fmt: skip
