"""The commands that tell events and change columns."""

from __future__ import annotations

import json
import re


def test_events_are_told_followed_and_counted(demo, tmp_path):
    lines = [{"user": "cli-1", "item": "v-0010", "kind": "save"}, {"user": "cli-1", "item": "v-0072", "kind": "view"}]
    file = tmp_path / "today.ndjson"
    file.write_text("\n".join(map(json.dumps, lines)) + "\n\n")
    assert demo.gleaner("events", "send", "seeds", str(file)).stdout == "2 kept\n"
    assert demo.gleaner("events", "send", "seeds", str(file)).stdout == "0 kept, 2 were here before\n"
    one = (
        "--user",
        "cli-1",
        "--item",
        "v-0001",
        "--kind",
        "view",
        "--list",
        "a-list",
        "--time",
        "2026-11-20T10:00:00Z",
    )
    assert json.loads(demo.gleaner("events", "send", "seeds", *one, "--json").stdout)["taken"] == 1
    shown = demo.gleaner("events", "tail", "seeds", "--user", "cli-1").stdout.splitlines()
    assert len(shown) == 3
    assert {line.split()[-1] for line in shown[:2]} == {"v-0010", "v-0072"}
    assert shown[2].endswith("cli-1  view  v-0001  from list a-list")
    output = json.loads(demo.gleaner("events", "tail", "seeds", "--user", "cli-1", "--json").stdout)
    assert [each["kind"] for each in output][2] == "view"
    live = demo.gleaner("events", "live", "seeds").stdout
    assert re.search(r"^seeds@1  events: [\d,]+ since it was made \(", live)
    assert "drift of popularity 0." in live
    assert "for-growers" in live


def test_a_mistake_in_a_file_of_events_is_named_before_any_is_sent(demo, tmp_path):
    file = tmp_path / "wrong.ndjson"
    good = json.dumps({"user": "cli-wrong", "item": "v-0010", "kind": "save"})
    file.write_text("\n".join([good] * 1001) + '\n{"user": "cli-wrong"}\n')
    answer = demo.gleaner("events", "send", "seeds", str(file))
    assert answer.returncode == 1
    assert "wrong.ndjson, line 1002, item: Field required" in answer.stderr
    assert demo.sql("SELECT count(*) FROM events WHERE user_id = 'cli-wrong'") == [(0,)]
    for arguments, text in [
        (["seeds"], "Name a FILE, or one event by --user and --item."),
        (["seeds", str(file), "--user", "u"], "Name a FILE or the options of one event, not both."),
    ]:
        answer = demo.gleaner("events", "send", *arguments)
        assert answer.returncode == 2
        assert text in answer.stderr


def test_columns_change_by_command(demo):
    before = demo.sql("SELECT count(*) FROM column_changes WHERE row_id = 'v-0518'")
    wrong = demo.gleaner("data", "change", "seeds", "--item", "v-0518", "stock=some")
    assert (wrong.returncode, "'some' is not a whole number" in wrong.stderr) == (1, True)
    assert demo.sql("SELECT count(*) FROM column_changes WHERE row_id = 'v-0518'") == before
    description = "description=As it was."
    done = demo.gleaner("data", "change", "seeds", "--item", "v-0518", description)
    assert done.stdout == "changed of v-0518: description\n"
    assert demo.gleaner("data", "change", "seeds", description).returncode == 2
    assert demo.gleaner("data", "change", "seeds", "--user", "g-0001", "zone").returncode == 2
