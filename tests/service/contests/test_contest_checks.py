"""Contest files: every mistake at once, estimates, drafts, the schema."""

from __future__ import annotations

import jsonschema
import pytest
from ruamel.yaml import YAML

from contest_files import EVERY
from gleaner.client import contest_calls
from gleaner.demo.shipped import shipped
from gleaner.service.http import documents, guarded_route
from gleaner.service.http.app import ROUTERS
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.contests.rank import RankSpec
from gleaner.wire.imports import Roles

BAD = """\
contest: Bad Name
data: seeds@1
prepare:
  kinds: {view: 1, sold: 2}
  min_user: none
split: {by: time, test: 2}
rank:
  at: [5, 100000]
  metrics: [ndcg, magic, calibration]
  decide_by: ndcg@5
  content: [colour]
contenders:
  - als: {rank: 0}
  - nosuch
  - biases
extra: 1
"""


def test_every_mistake_is_told_at_once_with_its_line(demo):
    check = demo.client.send(contest_calls.check_contest(FileRequest(file=BAD, name="bad.yaml")))
    problems = [(each.line, each.field) for each in check.problems]
    assert problems == [
        (1, "contest"), (4, "prepare.kinds.sold"), (5, "prepare.min_user"), (6, "split.test"), (8, "rank.at"),
        (9, "rank.metrics.1"), (9, "rank.metrics.2"), (11, "rank.content"), (13, "contenders.0.als.rank"),
        (14, "contenders.1"), (15, "contenders.2"), (16, "extra"),
    ]  # fmt: skip
    assert check.contenders == []


def test_one_mistake_hides_no_other(demo):
    problems = BAD.replace("decide_by: ndcg@5", "decide_by: ndcg@7").replace(
        "{rank: 0}", "{rank: {choose: []}, rnk: 3, regularisation: low}"
    )
    check = demo.client.send(contest_calls.check_contest(FileRequest(file=problems, name="bad.yaml")))
    output = {each.field: (each.line, each.message) for each in check.problems}
    assert output["rank.decide_by"] == (
        10,
        "'ndcg@7' is not among the metrics asked for: "
        + ", ".join(f"{name}@{k}" for name in ("ndcg", "magic", "calibration") for k in (5, 100000)),
    )
    assert {"rank.metrics.1", "rank.metrics.2", "rank.at"} <= output.keys()
    assert {"rank", "rnk", "regularisation"} == {name.rpartition(".")[2] for name in output if ".als." in name}


CONTENDERS = """\
contest: names
data: seeds@1
contenders:
  - als: {rank: 0}
    as: Bad Name
  - als: {rank: 4}
    tune: {attempts: 0}
    without: [kinds.nope]
  - als
  - {als: {}, bpr: {}}
  - 7
  - nosuch
  - item_knn: many
"""


def test_one_contender_that_cannot_be_read_hides_no_other(demo):
    check = demo.client.send(contest_calls.check_contest(FileRequest(file=CONTENDERS)))
    problems = [(each.line, each.field, each.message.partition(";")[0].partition(",")[0]) for each in check.problems]
    assert problems == [
        (4, "contenders.0.label", "a name has lower-case letters"),
        (4, "contenders.0.als.rank", "rank must be a whole number of at least 1 and at most 4096"),
        (7, "contenders.1.tune.attempts", "Input should be greater than or equal to 1"),
        (8, "contenders.1.without", "als without 'kinds.nope': seeds@1 has no kind 'nope'"),
        (9, "contenders.2.label", "two contenders are called 'als'"),
        (10, "contenders.3", "a contender names one model family"),
        (11, "contenders.4", "a contender is a model family"),
        (12, "contenders.5", "there is no model family 'nosuch'"),
        (13, "contenders.6", "the parameters of item_knn must be a mapping"),
    ]


def test_what_decides_need_not_be_said_where_the_usual_is_not_asked_for(demo):
    text = "contest: quiet\ndata: seeds@1\nrank: {at: [20], metrics: [recall, ndcg]}\ncontenders: [popular]\n"
    assert demo.client.send(contest_calls.check_contest(FileRequest(file=text))).problems == []
    assert RankSpec(at=[20], metrics=["recall", "ndcg"]).decide_by == "recall@20"
    assert RankSpec(metrics=["auc", "ndcg"]).decide_by == "ndcg@10"
    assert RankSpec(metrics=["auc"]).decide_by == "auc"


def test_a_metric_that_has_no_better_way_cannot_decide(demo):
    file = EVERY.replace("decide_by: ndcg@10", "decide_by: popularity@10")
    [problem] = demo.client.send(contest_calls.check_contest(FileRequest(file=file))).problems
    assert problem.message == "popularity cannot decide: neither more nor less of it is better"


def test_a_right_file_is_estimated(demo):
    check = demo.client.send(contest_calls.check_contest(FileRequest(file=EVERY)))
    assert check.problems == []
    assert [each.contender for each in check.contenders] == ["popular", "random", "item_knn", "als"]
    assert {each.fits for each in check.contenders} == {2}
    assert check.seconds > sum(each.seconds for each in check.contenders)
    assert check.memory_mb == max(each.memory_mb for each in check.contenders)


def test_an_estimate_learns_from_what_contenders_took_here(demo):
    """What contenders of a family took is set to 30 times, then a thirtieth, of what was counted."""
    text = "contest: timed\ndata: seeds@1\nprepare: {kinds: {request: 1}}\ncontenders: [popular, {als: {rank: 4}}]\n"
    demo.run_contest(text)

    def als() -> tuple[float, float, float]:
        check = demo.client.send(contest_calls.check_contest(FileRequest(file=text)))
        assert check.based_on.startswith("the methods' counts of operations, corrected by what the last ")
        assert check.seconds_low < check.seconds < check.seconds_high
        [one] = [each for each in check.contenders if each.contender == "als"]
        return one.seconds_low, one.seconds, one.seconds_high

    was = demo.sql("SELECT id, elapsed_seconds FROM standings")
    assert [taken for _, taken in was if taken is not None and taken > 0]
    counted = "(r.expected_times -> s.contender ->> 'counted')::float8"
    scale = f"UPDATE standings s SET elapsed_seconds = {counted} * %s FROM runs r WHERE r.id = s.run_id"
    try:
        demo.sql(scale, 30.0)
        slow = als()
        demo.sql(scale, 1 / 30)
        quick = als()
    finally:
        for id, taken in was:
            demo.sql("UPDATE standings SET elapsed_seconds = %s WHERE id = %s", taken, id)
    # of a family with one run, and others in any number, what is expected moves most of the way
    assert slow[1] > 25 * quick[1]
    assert slow[0] > quick[1]
    assert slow[1] > quick[2]


def test_a_drafted_file_fits_its_dataset(demo):
    drafted = demo.client.send(contest_calls.draft_contest("seeds", 1)).file
    assert demo.client.send(contest_calls.check_contest(FileRequest(file=drafted))).problems == []
    tree = YAML(typ="safe").load(drafted)
    assert tree["prepare"]["kinds"] == {"view": 1, "save": 2, "request": 2, "grown": 3}
    assert (tree["split"]["by"], tree["rank"]["categories"]) == ("time", "family")
    rated = "user,item,value\n" + "".join(
        f"g{u},v{(u * i) % 17},{1 + (u + i) % 5}\n" for u in range(30) for i in range(9)
    )
    demo.add("rated-draft", rated, Roles(user="user", item="item", value="value"))
    drafted = demo.client.send(contest_calls.draft_contest("rated-draft", 1)).file
    assert demo.client.send(contest_calls.check_contest(FileRequest(file=drafted))).problems == []
    run = demo.run_contest(drafted)
    assert {standing.family for standing in run.standings} >= {"popular", "als_values", "item_linear"}


def test_the_schema_takes_what_the_service_takes(demo):
    schema = demo.http.get("/v1/schemas/contest").json()
    validator = jsonschema.Draft202012Validator(schema)
    yaml = YAML(typ="safe")
    for text in (EVERY, shipped("first-look.yaml"), demo.client.send(contest_calls.draft_contest("seeds", 1)).file):
        assert list(validator.iter_errors(yaml.load(text))) == []
    wrong = [
        ("als: {rank: 16", "als: {rankk: 16"),
        ("[popular", "[nosuch"),
        ("random", "als: {rank: big}, as: x"),
        ("ndcg,", "magic,"),
    ]
    for old, new in wrong:
        changed = EVERY.replace(old, new, 1)
        assert changed != EVERY
        assert list(validator.iter_errors(yaml.load(changed))), new


def test_the_command_tells_mistakes_estimates_and_drafts(demo, tmp_path):
    bad = tmp_path / "bad.yaml"
    bad.write_text(BAD)
    checked = demo.gleaner("contest", "check", str(bad))
    assert checked.returncode == 1
    assert "bad.yaml:13: contenders.0.als.rank: rank must be a whole number" in checked.stdout
    assert "bad.yaml:1: contest: a name has lower-case letters, digits, - and _" in checked.stdout
    assert "12 mistakes" in checked.stdout
    out = tmp_path / "new.yaml"
    assert demo.gleaner("contest", "new", "seeds", "--out", str(out)).returncode == 0
    assert "nothing wrong; on seeds@1 about" in demo.gleaner("contest", "check", str(out)).stdout
    again = demo.gleaner("contest", "new", "seeds", "--out", str(out))
    assert (again.returncode, "is there already" in again.stderr) == (2, True)
    assert demo.gleaner("contest", "new", "nope").returncode == 1


def test_files_are_bounded_together_and_in_entries(demo):
    file = "contest: bounded\ndata: seeds@1\nshelves: [a.yaml]\ncontenders: [popular]\n"
    many = {"file": file, "files": {f"f{n}.yaml": "x: " + "1" * 60_000 for n in range(10)}}
    answer = demo.http.post("/v1/contests/check", json=many)
    assert (answer.status_code, "and at most 131,072 together" in answer.text) == (422, True)
    entries = {"file": "contest: x\nk: [" + "1," * 15_000 + "]\n"}
    for path in ("contests", "shelves"):
        answer = demo.http.post(f"/v1/{path}/check", json=entries)
        assert "it has more than 15,000 entries" in answer.text


def test_a_file_is_parsed_once(monkeypatch):
    calls = []
    whole = documents.YAML.load

    def load(self, text):
        calls.append(1)
        return whole(self, text)

    monkeypatch.setattr(documents.YAML, "load", load)
    monkeypatch.setattr(documents.YAML, "parse", lambda *_: pytest.fail("parsed a second time"))
    documents.Document("contest: x\n", "x.yaml")
    assert calls == [1]


def test_files_are_read_by_few_calls_at_once():
    assert {"/v1/contests/check", "/v1/shelves/check", "/v1/contests", "/v1/shelves"} <= guarded_route.READ_FILES
    assert guarded_route.FILE_READERS.total_tokens == 2
    paths = {route.path for router in ROUTERS for route in router.router.routes}
    assert paths >= guarded_route.READ_FILES
