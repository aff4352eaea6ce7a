"""Models through the service: trained alone, watched, asked in four directions, explained, taken elsewhere."""

from __future__ import annotations

import io
import zipfile

import numpy as np
import onnxruntime
import polars as pl
import pytest
from safetensors.numpy import load, save

from gleaner.client import JobFailedError, NotFoundError, RefusedError, calls
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.models.lists import AllRequest, AudienceRequest, ListsRequest
from gleaner.wire.models.training import TrainRequest, WatchSpec
from gleaner.wire.models.values import Pair
from stack import wait_for
from tolerances import KEPT, SINGLE, SUMMED

PREPARE = {"kinds": {"view": 1, "save": 3, "request": 5}, "min_user": 5, "min_item": 5}
RATINGS = {"kinds": {"grown": 1}, "use": "values", "merge": "mean"}


def train(stack, **fields):
    job = stack.client.wait(stack.client.send(calls.train_model(TrainRequest(data="seeds@1", **fields))).id)
    return job, stack.client.send(calls.model(job.result["model"]))


@pytest.fixture(scope="module")
def rated(demo):
    """A model that predicts values, and one of neighbours."""
    names = {"als_values": "ratings.als", "user_knn_values": "ratings.users"}
    return {family: train(demo, family=family, name=name, prepare=RATINGS)[1].name for family, name in names.items()}


def test_a_fit_is_watched_stopped_early_and_kept_at_its_best(demo):
    watch = WatchSpec(metric="ndcg@10", patience=2)
    request = {"family": "als", "params": {"rank": 40}, "prepare": PREPARE, "on": "training", "watch": watch}
    job, card = train(demo, name="watched.als", **request)
    rounds = demo.client.send(calls.job_rounds(job.id))
    assert [each.iteration for each in rounds] == list(range(1, len(rounds) + 1))
    assert {each.part for each in rounds} == {"training"}
    assert [each.model_dump(exclude={"contender", "part"}) for each in rounds] == [e.model_dump() for e in card.rounds]
    judged = [each.metrics["ndcg@10"] for each in card.rounds]
    assert card.best_iteration == 1 + int(np.argmax(judged))
    assert len(judged) in (card.best_iteration + 2, 15)
    losses = [each.losses["training"] for each in card.rounds]
    assert losses == sorted(losses, reverse=True)
    assert all(each.losses["validation"] > 0 for each in card.rounds)
    # on what it was not shown a model does worse than on what it was
    assert card.rounds[-1].losses["validation"] > losses[-1]
    assert (card.origin, card.run, card.figures, card.decided_by) == ("train", None, {}, None)
    assert demo.client.send(calls.job_rounds(job.id, skip=len(rounds) - 1)) == rounds[-1:]
    # the state kept is that of the best iteration: the same as a fit of so many
    _, short = train(demo, name="short.als", **request | {"params": {"rank": 40, "iterations": card.best_iteration}})
    lists = [demo.client.send(calls.model_recommend(each.name, "g-0417", 20)).list for each in (card, short)]
    assert [(p.item, p.score) for p in lists[0]] == [(p.item, p.score) for p in lists[1]]


def test_a_fit_over_the_limit_is_estimated_refused_and_done_when_confirmed(demo):
    huge = {"rank": 512, "iterations": 1000, "cg_steps": 100}
    request = TrainRequest(data="seeds@1", family="als", params=huge, prepare=PREPARE)
    estimate = demo.client.send(calls.estimate(request))
    assert estimate.seconds > estimate.limit_seconds == 3600
    assert (estimate.users, estimate.items, estimate.cells) == (1500, 898, 90_000)
    assert len(estimate.over) == 1
    with pytest.raises(match=r"estimated to take .* s, and the limit is 3,600 s"):
        demo.client.send(calls.train_model(request))
    job = demo.client.send(calls.train_model(request.model_copy(update={"confirm": True})))
    demo.client.send(calls.cancel_job(job.id))
    wait_for(lambda: demo.client.send(calls.job(job.id)).state == "cancelled")
    small = demo.client.send(calls.estimate(TrainRequest(data="seeds@1", family="popular")))
    assert small.over == []
    assert small.seconds < 10


def test_what_does_not_fit_is_refused_before_anything_is_queued(demo):
    before = demo.sql("SELECT count(*) FROM jobs")
    count = demo.sql("SELECT count(*) FROM models WHERE family = 'bpr'")
    for request, message in (
        ({"family": "als", "params": {"rnak": 3}}, "als has no parameter 'rnak'"),
        ({"family": "als_values", "prepare": PREPARE}, "als_values predicts values: prepare with `use: values`"),
        ({"family": "als", "watch": WatchSpec(metric="rmse")}, "als predicts no values, so rmse cannot judge it"),
        ({"family": "als", "watch": WatchSpec(metric="fame@3")}, "'fame@3' cannot judge a fit"),
        ({}, "name a family, or a model to be like or to refresh"),
        ({"like": "first-look.als", "family": "bpr"}, "first-look.als is of family als, not bpr"),
    ):
        with pytest.raises(RefusedError, match=message):
            demo.client.send(calls.train_model(TrainRequest(data="seeds@1", **request)))
    with pytest.raises(NotFoundError, match="there is no model family 'deep_thought'"):
        demo.client.send(calls.train_model(TrainRequest(data="seeds@1", family="deep_thought")))
    contest = "contest: unfit\ndata: seeds@1\nprepare: {kinds: {view: 1}}\ncontenders: [popular, svdpp]\n"
    with pytest.raises(RefusedError, match="svdpp predicts values"):
        demo.client.send(calls.run_contest(FileRequest(file=contest, name="unfit.yaml")))
    assert demo.sql("SELECT count(*) FROM jobs") == before
    with pytest.raises(JobFailedError, match="rank 900 is above what 1500 users and 898 items can carry"):
        train(demo, family="bpr", params={"rank": 900}, prepare={"kinds": PREPARE["kinds"]})
    assert demo.sql("SELECT count(*) FROM models WHERE family = 'bpr'") == count


def test_lists_for_many_for_someone_new_and_of_given_items(demo):
    one = demo.client.send(calls.model_recommend("first-look.als", "g-0417", 5))
    body = ListsRequest(users=["g-0417", "nobody", "g-0020"], n=5)
    many = demo.client.send(calls.model_lists("first-look.als", body))
    assert [each.user for each in many.lists] == ["g-0417", "g-0020"]
    assert many.unknown == ["nobody"]
    assert many.lists[0].list == one.list
    given = [place.item for place in reversed(one.list)]
    ordered = demo.client.send(calls.model_lists("first-look.als", ListsRequest(users=["g-0417"], candidates=given)))
    assert [place.item for place in ordered.lists[0].list] == [place.item for place in one.list]
    new = demo.client.send(calls.model_lists("first-look.als", ListsRequest(items=["v-0007", "no-such"], n=5)))
    shelf = demo.client.send(calls.recommend("for-growers", recent=["v-0007"], n=5))
    assert [place.item for place in new.lists[0].list] == [place.item for place in shelf.list]
    for wrong, message in (
        (ListsRequest(), "give users, or items of someone new"),
        (ListsRequest(items=["no-such"]), "knows none of the 1 items given"),
        (ListsRequest(items=["v-0007"], values=[1.0, 2.0]), "2 values are given for 1 items"),
        (ListsRequest(users=["g-0417"], candidates=["no-such"]), "knows none of the 1 candidates given"),
    ):
        with pytest.raises(RefusedError, match=message):
            demo.client.send(calls.model_lists("first-look.als", wrong))


def test_audiences_of_known_and_of_new_items(demo):
    answer = demo.client.send(calls.audience("first-look.als", "v-0007", 8, where="zone = 'Z4'"))
    assert [liked.position for liked in answer.users] == list(range(1, 9))
    assert {liked.columns["zone"] for liked in answer.users} == {"Z4"}
    assert [liked.score for liked in answer.users] == sorted((liked.score for liked in answer.users), reverse=True)
    # a user's score for the item is the same from both directions
    first = answer.users[0]
    back = demo.client.send(
        calls.model_lists("first-look.als", ListsRequest(users=[first.user], candidates=["v-0007"]))
    )
    assert back.lists[0].list[0].score == pytest.approx(first.score, rel=SINGLE)
    having = demo.client.send(calls.audience("first-look.als", "v-0007", 1000, include_known=True))
    without = demo.client.send(calls.audience("first-look.als", "v-0007", 1000))
    assert len(having.users) == 1000 > len({u.user for u in having.users} & {u.user for u in without.users})
    fresh = demo.client.send(calls.audiences("first-look.als", AudienceRequest(users=["g-0417", "g-0020"], n=5)))
    assert fresh[0].item is None
    assert not {"g-0417", "g-0020"} & {liked.user for liked in fresh[0].users}
    with pytest.raises(NotFoundError, match="was not trained on item 'no-such'"):
        demo.client.send(calls.audience("first-look.als", "no-such"))


def test_an_audience_of_a_new_item_keeps_to_candidates_and_conditions(demo):
    def ask(**fields):
        request = AudienceRequest(users=["g-0417", "g-0020"], n=1000, **fields)
        return demo.client.send(calls.audiences("first-look.als", request))[0]

    everybody = [(each.user, each.score) for each in ask().users]
    chosen = [user for user, _ in everybody[5:400:7]]
    assert [(e.user, e.score) for e in ask(candidates=chosen[::-1]).users] == everybody[5:400:7]
    here = ask(where="zone = 'Z4'")
    kept = {each.user for each in here.users}
    assert {each.columns["zone"] for each in here.users} == {"Z4"}
    among_all = [each for each in everybody if each[0] in kept]
    assert len(among_all) > 50
    assert [(e.user, e.score) for e in here.users][: len(among_all)] == among_all
    # the two who touched it are left out of the list, not of the count
    assert here.where_keeps - len(kept) in (0, 1, 2)
    nobody = ask(where="zone = 'Z99'")
    assert (nobody.where_keeps, nobody.users) == (0, [])
    with pytest.raises(RefusedError, match="knows none of the 1 candidates given"):
        ask(candidates=["nobody"])


def test_neighbours_of_items_and_users_as_each_model_sees_them(demo):
    for model, side, id, by in (
        ("first-look.als", "item", "v-0007", "cosine of item factors"),
        ("first-look.als", "user", "g-0417", "cosine of user factors"),
        ("first-look.item_knn", "item", "v-0007", "weights of item_knn"),
        ("first-look.item_knn", "user", "g-0417", "cosine of what they have"),
        ("first-look.popular", "item", "v-0007", "cosine of who has them"),
    ):
        answer = demo.client.send(calls.similar(model, side, id, 5))
        assert answer.by == by
        assert id not in [each.id for each in answer.list]
        likeness = [each.likeness for each in answer.list]
        assert 0 < likeness[-1] <= likeness[0] <= 1.0001


def test_a_likeness_is_worked_so_that_it_can_be_redone(demo):
    nearest = demo.client.send(calls.similar("first-look.item_knn", "item", "v-0007", 1)).list[0]
    worked = demo.client.send(calls.likeness("first-look.item_knn", "item", "v-0007", nearest.id, 3))
    assert (worked.by, worked.entries_of) == ("cosine of who has them, weighed by tfidf", "user")
    assert worked.result == pytest.approx(nearest.likeness, rel=SUMMED)
    assert (worked.model_has, worked.note) == (pytest.approx(nearest.likeness), None)
    assert len(worked.entries) == min(3, worked.entries_in_all)
    assert [each.what for each in worked.steps][-1] == "shrunk"
    weights = [abs(each.columns["product"]) for each in worked.entries]
    assert weights == sorted(weights, reverse=True)
    assert worked.one_name
    listed = demo.gleaner("model", "likeness", "first-look.item_knn", "--item", "v-0007", nearest.id)
    assert f"{worked.result:.6g}" in listed.stdout
    two = demo.client.send(calls.likeness("first-look.als", "user", "g-0417", "g-0002"))
    assert (two.entries_of, two.entries_in_all, len(two.entries)) == ("factor", 32, 20)
    with pytest.raises(NotFoundError, match="was not trained on item 'nope'"):
        demo.client.send(calls.likeness("first-look.als", "item", "v-0007", "nope"))


def test_factors_are_described_by_what_stands_out_at_their_ends(demo):
    report = demo.client.send(calls.factors("first-look.als", 3))
    first = report.factors[0]
    # the axis on which all scores are high is how many users have an item
    assert [each.column for each in first.top_traits] == ["users who have it"]
    assert first.top_traits[0].here > first.top_traits[0].overall > first.bottom_traits[0].here
    said = [each for factor in report.factors for each in (*factor.top_traits, *factor.bottom_traits)]
    of_values = [each for each in said if each.value is not None]
    assert {"family", "traits"} <= {each.column for each in of_values}
    assert all(0 <= each.overall < each.here <= 1 for each in of_values)
    assert report.end_items == 826 // 20


def test_values_say_whether_they_could_be_answered(demo, rated):
    pairs = [
        Pair(user="g-0417", item="v-0325"),
        Pair(user="nobody", item="v-0325"),
        Pair(user="g-0417", item="no-such"),
    ]
    answer = demo.client.send(calls.rate(rated["als_values"], [*pairs, Pair(user="x", item="y")]))
    assert answer.scale == (1.0, 5.0)
    assert [each.answerable for each in answer.ratings] == [True, False, False, False]
    assert [each.reason for each in answer.ratings] == [None, "unknown user", "unknown item", "unknown user and item"]
    assert answer.ratings[1].fell_back_on == "the item's mean"
    assert all(1 <= each.value <= 5 for each in answer.ratings)
    averages = demo.client.send(calls.averages(rated["als_values"], 10))
    assert [each.count for each in averages] == sorted((each.count for each in averages), reverse=True)
    assert max(abs(each.observed - each.predicted) for each in averages) < 0.5
    with pytest.raises(
        RefusedError, match="ranks: it predicts no values, as als_values does, and has no likelihood, as logistic does"
    ):
        demo.client.send(calls.rate("first-look.als", pairs))


def test_explanations_can_be_redone_by_hand(demo, rated):
    item = demo.client.send(calls.model_recommend("first-look.item_knn", "g-0417", 1)).list[0]
    answer = demo.client.send(calls.explain("first-look.item_knn", "g-0417", item.item))
    assert answer.kind == "sum"
    assert sum(t.columns["value"] * t.columns["weight"] for t in answer.terms) == pytest.approx(item.score, rel=SUMMED)
    shares = demo.client.send(calls.explain("first-look.als", "g-0417", item.item, 3))
    assert shares.terms[-1].id.endswith(" more")
    assert sum(term.columns["adds"] for term in shares.terms) == pytest.approx(shares.result, abs=KEPT)
    # the sum is of the exact solution for this user, the score of an iteration near it
    assert shares.result == pytest.approx(shares.score, abs=0.02)
    value = demo.client.send(calls.explain(rated["user_knn_values"], "g-1068", "v-0201"))
    weights = [term.columns["likeness"] for term in value.terms]
    by_hand = value.start + sum(
        term.columns["likeness"] * (term.columns["value"] - term.columns["mean"]) for term in value.terms
    ) / sum(weights)
    assert value.result == pytest.approx(by_hand, abs=KEPT)
    popular = demo.client.send(calls.explain("first-look.popular", "g-0417", item.item))
    assert (popular.kind, popular.result) == ("nearest", None)


def test_factors_share_all_of_the_variance(demo):
    factors = demo.client.send(calls.factors("first-look.als", 3))
    shares = [each.share for each in factors.factors]
    assert len(shares) == 32
    assert sum(shares) == pytest.approx(1)
    assert shares == sorted(shares, reverse=True)
    assert all(each.top[0].at >= each.bottom[0].at for each in factors.factors)
    assert factors.factors[0].top[0].name
    assert len(factors.map) == 826
    with pytest.raises(RefusedError, match="has no factors to look at"):
        demo.client.send(calls.factors("first-look.popular"))


def test_a_model_goes_out_and_comes_back_the_same(demo, tmp_path):
    packed = tmp_path / "als.zip"
    packed.write_bytes(demo.client.send(calls.model_export("first-look.als")))
    with zipfile.ZipFile(packed) as archive:
        assert sorted(archive.namelist()) == ["matrix.safetensors", "model.json", "state.safetensors"]
    upload = demo.client.send(calls.upload(packed)).upload
    job = demo.client.wait(demo.client.send(calls.take_model(upload, "brought.als")).id)
    card = demo.client.send(calls.model(job.result["model"]))
    assert (card.origin, card.parent, card.data) == ("import", "first-look.als@1", "seeds@1")
    lists = [demo.client.send(calls.model_recommend(name, "g-0417", 50)).list for name in ("first-look.als", card.name)]
    assert [(p.item, p.score) for p in lists[0]] == [(p.item, p.score) for p in lists[1]]


def test_the_scoring_part_as_onnx_agrees_with_the_model(demo):
    content = demo.client.send(calls.model_export("first-look.als", "onnx"))
    session = onnxruntime.InferenceSession(content, providers=["CPUExecutionProvider"])
    with zipfile.ZipFile(io.BytesIO(demo.client.send(calls.model_export("first-look.als", "factors")))) as archive:
        users, items = (pl.read_parquet(archive.read(f"{side}.parquet"))["id"].to_list() for side in ("users", "items"))
    [scores] = session.run(None, {"users": np.array([users.index("g-0417")])})
    answer = demo.client.send(calls.model_recommend("first-look.als", "g-0417", 1000, include_known=True)).list
    assert scores.shape == (1, len(answer))
    for place in answer:
        assert scores[0, items.index(place.item)] == pytest.approx(place.score, abs=SINGLE)
    for form in ("onnx", "factors"):
        with pytest.raises(RefusedError, match="is no factor model: export it as a folder"):
            demo.client.send(calls.model_export("first-look.popular", form))


def with_far_index(content: bytes) -> bytes:
    """The last cell of a matrix names an item far beyond the end, behind rows that a look at the first users passes."""
    arrays = load(content)
    arrays["indices"][-1] = 2**31 - 1
    return save(arrays)


def with_item(content: bytes, item: bytes) -> bytes:
    """The last item of a matrix has another id."""
    arrays = load(content)
    start = arrays["item_offsets"][-2]
    arrays["item_bytes"] = np.concatenate([arrays["item_bytes"][:start], np.frombuffer(item, np.uint8)])
    arrays["item_offsets"][-1] = start + len(item)
    return save(arrays)


def test_a_folder_that_is_no_model_is_refused_and_nothing_is_kept(demo, tmp_path):
    whole = io.BytesIO(demo.client.send(calls.model_export("first-look.als")))
    with zipfile.ZipFile(whole) as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}
    before = demo.sql("SELECT count(*) FROM models"), demo.files()
    for changes, message in (
        ({"state.safetensors": None}, "has no state.safetensors"),
        ({"state.safetensors": parts["matrix.safetensors"]}, "als has no array 'indptr'; it has: user_factors"),
        ({"matrix.safetensors": with_item(parts["matrix.safetensors"], b"a\0b")}, "contains the character NUL"),
        (
            {"matrix.safetensors": with_item(parts["matrix.safetensors"], b"x" * 1001)},
            "has 1,001 bytes, and an id has at most 1,000",
        ),
        ({"matrix.safetensors": with_item(parts["matrix.safetensors"], b"")}, "is empty"),
        ({"state.safetensors": b"junk"}, "state.safetensors is not a safetensors file"),
        ({"matrix.safetensors": with_far_index(parts["matrix.safetensors"])}, "array 'indices' holds 2147483647"),
        ({"model.json": parts["model.json"].replace(b'"rank": 32', b'"rank": 16')}, "array 'user_factors' must be"),
        ({"model.json": b"[" * 100_000}, "model.json is not a model's card"),
        ({"model.json": b"{}"}, "model.json is not a model's card"),
        ({"model.json": parts["model.json"].replace(b'"als"', b'"magic"')}, "there is no model family 'magic'"),
        (dict.fromkeys(parts, b"0" * 10000000), "unpacks to far more than it holds"),
    ):
        path = tmp_path / "wrong.zip"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, content in (parts | changes).items():
                if content is not None:
                    archive.writestr(name, content)
        upload = demo.client.send(calls.upload(path)).upload
        with pytest.raises(JobFailedError, match=message):
            demo.client.wait(demo.client.send(calls.take_model(upload)).id)
    plain = demo.send_text("not a zip", "x.zip").upload
    with pytest.raises(JobFailedError, match="this is not a zipped model folder"):
        demo.client.wait(demo.client.send(calls.take_model(plain)).id)
    assert demo.sql("SELECT count(*) FROM models") == before[0]
    assert {path for path in demo.files() - before[1] if not path.startswith("uploads")} == set()


def test_a_refresh_goes_on_and_says_how_it_differs(demo):
    _, card = train(demo, name="fresh.als", refresh="first-look.als", compare=True)
    assert (card.name, card.origin, card.parent) == ("fresh.als@1", "refresh", "first-look.als")
    assert card.prepare["kinds"] == {"view": 1.0, "save": 3.0, "request": 5.0}
    assert "Went on from first-look.als@1 with" in card.note
    assert "Against a full refit:" in card.note
    assert len(card.rounds) == 3
    _, again = train(demo, name="fresh.knn", refresh="first-look.item_knn")
    assert "item_knn has no state to go on from: this is a full fit" in again.note


@pytest.mark.parametrize("what", ["items", "users", "similar_items", "similar_users"])
def test_lists_for_everybody_are_the_lists_of_each(demo, tmp_path, what):
    where = "stock > 0" if what == "items" else None
    request = AllRequest(what=what, n=4, where=where)
    job = demo.client.wait(demo.client.send(calls.all_lists("first-look.als", request)).id)
    table = pl.read_parquet(io.BytesIO(demo.client.send(calls.job_file(job.id))))
    owner, listed, score = table.columns[0], table.columns[2], table.columns[3]
    assert (job.result["rows"], job.result["lists"]) == (table.height, table[owner].n_unique())
    assert job.result["lists"] == (1347 if what in ("items", "similar_users") else 826)
    of = "g-0417" if what in ("items", "similar_users") else "v-0007"
    mine = table.filter(pl.col(owner) == of)
    if what == "items":
        single = demo.client.send(calls.model_recommend("first-look.als", of, 4, where=where)).list
        expected = [(place.item, place.score) for place in single]
    elif what == "users":
        expected = [(each.user, each.score) for each in demo.client.send(calls.audience("first-look.als", of, 4)).users]
    else:
        side = what.removeprefix("similar_").removesuffix("s")
        expected = [(e.id, e.likeness) for e in demo.client.send(calls.similar("first-look.als", side, of, 4)).list]
    assert mine[listed].to_list() == [id for id, _ in expected]
    assert mine[score].to_list() == pytest.approx([value for _, value in expected], abs=SINGLE)


def test_a_job_without_a_file_says_so(demo):
    with pytest.raises(NotFoundError, match="has made no file"):
        demo.client.send(calls.job_file(1))
    with pytest.raises(RefusedError, match="stok"):
        demo.client.send(calls.all_lists("first-look.als", AllRequest(where="stok > 0")))
