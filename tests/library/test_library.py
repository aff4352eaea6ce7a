"""The library as a notebook uses it: frames in, parts, fits, comparison, saved models."""

from __future__ import annotations

import warnings

import numpy as np
import pandas as pd
import polars as pl
import pytest

from gleaner import library
from gleaner.core.errors import DataError, GleanerError, InputError, ParameterError, UnknownNameError
from gleaner.core.models.base.registry import FAMILIES
from gleaner.library import saving
from tolerances import SINGLE

RANDOM = np.random.default_rng(6)
FRAME = pl.DataFrame(
    {
        "who": [f"u{n}" for n in RANDOM.integers(0, 60, 1500)],
        "what": [f"i{n}" for n in RANDOM.integers(0, 25, 1500) * RANDOM.integers(0, 2, 1500)],
        "stars": RANDOM.integers(1, 6, 1500).astype(float),
        "day": pl.Series(RANDOM.integers(0, 300, 1500)).cast(pl.Int32).cast(pl.Date),
    }
)
NAMES = {"user": "who", "item": "what"}
UNMET = {f"i{n}" for n in range(25)} - set(FRAME["what"])


def test_polars_and_pandas_frames_mean_the_same():
    mine = library.interactions(FRAME, **NAMES, value="stars", time="day")
    other = library.interactions(FRAME.to_pandas(), **NAMES, value="stars", time="day")
    first, second = (library.matrix(rows, use="values", merge="mean") for rows in (mine, other))
    np.testing.assert_array_equal(first.values, second.values)
    np.testing.assert_array_equal(first.indices, second.indices)
    texts = FRAME.with_columns(pl.col("day").cast(pl.String) + "T00:00:00")
    third = library.matrix(library.interactions(texts, **NAMES, time="day"), half_life_days=30)
    fourth = library.matrix(library.interactions(FRAME, **NAMES, time="day"), half_life_days=30)
    np.testing.assert_array_equal(third.values, fourth.values)


def test_ids_that_are_numbers_get_a_warning_of_what_may_be_lost(tmp_path):
    (tmp_path / "rows.csv").write_text("who,what\n001080,i1\n000007,i2\n")
    lost = pl.read_csv(tmp_path / "rows.csv")
    with pytest.warns(UserWarning, match="the ids in column 'who' are numbers .*zeros before them .* are gone"):
        rows = library.interactions(lost, **NAMES)
    assert list(rows.users.take(rows.frame["user"].to_numpy())) == ["1080", "7"]
    kept = pl.read_csv(tmp_path / "rows.csv", schema_overrides={"who": pl.String})
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        rows = library.interactions(kept, **NAMES)
    assert list(rows.users.take(rows.frame["user"].to_numpy())) == ["001080", "000007"]


@pytest.mark.parametrize(
    ("frame", "named", "message"),
    [
        (FRAME, {"value": "starz"}, "there is no column 'starz'; did you mean 'stars'?"),
        (
            FRAME.with_columns(who=pl.when(pl.int_range(pl.len()) != 3).then("who")),
            {},
            "column 'who' has no user in row 4",
        ),
        (FRAME.with_columns(stars=float("nan")), {"value": "stars"}, "column 'stars' holds a value that is not finite"),
        (pd.DataFrame({"who": ["a", None], "what": ["x", "y"]}), {}, "column 'who' has no user in row 2"),
    ],
)
def test_a_frame_that_does_not_fit_is_refused_by_column_and_row(frame, named, message):
    with pytest.raises(DataError, match=message):
        library.interactions(frame, **NAMES | named)


def test_parts_know_nothing_of_what_comes_after():
    parts = library.split(library.interactions(FRAME, **NAMES, time="day"), by="time", test=0.2, validation=0.2)
    assert parts.train.values.sum() < parts.whole.values.sum() < 1500
    assert parts.train.days.max() <= parts.whole.days.max()
    assert repr(parts).startswith("Parts\n  validation: ")
    with pytest.raises(GleanerError, match="by"):
        library.split(library.interactions(FRAME, **NAMES), by="moon")


def test_a_comparison_always_carries_popularity_and_says_what_it_can_tell():
    parts = library.split(library.interactions(FRAME, **NAMES, time="day"))
    result = library.compare(parts, ["item_knn", library.model("als", rank=4)], metric="recall@5", progress=False)
    assert set(result.table["contender"]) == {"popular", "item_knn", "als"}
    assert result.table["test"].to_list() == sorted(result.table["test"], reverse=True)
    assert result.table.filter(contender="popular")["verdict"].to_list() == ["baseline"]
    judged = dict(result.table.select("contender", "validation").iter_rows())
    assert result.best.name == max(judged, key=lambda name: judged[name])
    assert "recall@5 on the test part, 95 % interval; best on validation" in repr(result)
    with pytest.raises(InputError, match="two contenders are called 'als'; give a mapping of names to models"):
        library.compare(parts, ["als", library.model("als", rank=8)])


def test_a_fit_is_judged_as_it_goes_and_tells_its_progress(capsys):
    parts = library.split(library.interactions(FRAME, **NAMES, time="day"))
    judge = library.judge_of(parts, "ndcg@5")
    fitted = library.fit(
        library.model("als", rank=4, iterations=12),
        parts.train,
        judge=judge,
        decide_by="ndcg@5",
        patience=1,
        progress=True,
    )
    assert "als:" in capsys.readouterr().err
    assert set(judge(fitted.model)) == {"ndcg@5"}
    assert repr(fitted).startswith("Fitted als: als(rank=4")


def test_a_saved_model_comes_back_and_is_never_written_over(tmp_path):
    train = library.matrix(
        library.interactions(FRAME, **NAMES, value="stars", scale=(1, 5)), use="values", merge="mean"
    )
    fitted = library.fit("als_values", train, name="stars")
    place = library.save(fitted, tmp_path / "models" / "stars")
    again = library.load(place)
    assert again.name == "stars"
    assert again.recommend(n=5).equals(fitted.recommend(n=5))
    assert again.rate("u3", "i4").equals(fitted.rate("u3", "i4"))
    with pytest.raises(DataError, match="is there already; name another place"):
        library.save(fitted, place)
    assert [each.name for each in place.parent.iterdir()] == ["stars"]
    with pytest.raises(DataError, match=r"holds no model\.json"):
        library.load(tmp_path)


def test_models_look_at_columns_of_frames():
    things = pl.DataFrame({"what": [f"i{n}" for n in range(25)], "sort": [f"s{n % 3}" for n in range(25)]})
    people = pd.DataFrame({"who": [f"u{n}" for n in range(60)], "age": range(60)})
    parts = library.split(library.interactions(FRAME, **NAMES, time="day"), test=0.2, validation=0.2)
    contenders = {"content": "item_content", "sum": library.model("feature_sum", rank=4, iterations=3)}
    result = library.compare(parts, contenders, items=things, users=people)
    assert result.table["contender"].sort().to_list() == ["content", "popular", "sum"]
    columns = library.features(parts.whole, items=things, users=people)
    assert [each.name for each in (*columns.items, *columns.users)] == ["sort", "age"]
    again = library.fit(library.model("item_content"), parts.whole, features=columns)
    assert again.recommend(n=5).equals(result.models["content"].recommend(n=5))
    with pytest.raises(InputError, match="item_content has no column of an item table to look at"):
        library.fit("item_content", parts.whole)
    with pytest.raises(DataError, match="id 'i0' is there 2 times"):
        library.features(parts.whole, items=pl.concat([things, things.head(1)]))


def test_a_save_that_breaks_off_leaves_no_model(tmp_path, monkeypatch):
    fitted = library.fit("popular", library.matrix(library.interactions(FRAME, **NAMES)))

    def full(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(saving, "write_arrays", full)
    with pytest.raises(OSError, match="No space left"):
        library.save(fitted, tmp_path / "popular")
    assert not (tmp_path / "popular").exists()
    monkeypatch.undo()
    assert library.load(library.save(fitted, tmp_path / "popular")).name == "popular"
    assert [each.name for each in tmp_path.iterdir()] == ["popular"]


def test_a_mistake_in_a_model_is_named_before_any_fit():
    with pytest.raises(ParameterError, match="rank must be a whole number"):
        library.model("als", rank=0)
    with pytest.raises(GleanerError, match="there is no model family 'alz'"):
        library.model("alz")
    table = library.families()
    assert table.filter(family="als")["feedback"].to_list() == ["implicit"]


SHELF = {
    "shelf": "trial", "title": "Trial", "candidates": [{"model": "als"}], "fallback": [{"model": "popular"}],
    "where": "sort <> 's1'", "show": ["sort"], "slots": {"pinned": [{"place": 2, "item": "i3"}]},
}  # fmt: skip


def test_a_model_that_looks_at_columns_lists_for_and_of_what_it_never_saw():
    seen = FRAME.filter(pl.col("what") != "i3", pl.col("who") != "u3")
    train = library.matrix(library.interactions(seen, **NAMES, time="day"))
    things = pl.DataFrame({"what": [f"i{n}" for n in range(25)], "sorts": [f"s{n % 3}|t{n % 2}" for n in range(25)]})
    people = FRAME.select(pl.col("who").unique(maintain_order=True)).with_row_index("n")
    people = people.select("who", plot=pl.when(pl.col("n") % 2 == 0).then(pl.lit("bed")).otherwise(pl.lit("field")))
    features = library.features(train, items=things, users=people)
    model = library.model("feature_sum", rank=3, iterations=4)
    models = [library.fit(model, train, features=features), library.fit("popular", train)]
    file = {
        "shelf": "new", "candidates": [{"model": "feature_sum"}], "fallback": [{"model": "popular"}], "new_items": {},
    }  # fmt: skip
    shelf = library.shelf(file, models, items=things, users=people)
    assert shelf.why_not("u3") == "user 'u3' is not in the training data; computed from their row of the user table"
    listed = shelf.recommend("u3", n=30)
    assert listed.height == 25
    sources = dict(listed.select("item", "source").iter_rows())
    assert {item for item, source in sources.items() if source == "feature_sum, by its columns"} == {"i3", *UNMET}
    # someone with the same columns gets the same, and another something else
    lists = {}
    for plot in ("bed", "field"):
        grown = pl.concat([people, pl.DataFrame({"who": ["new"], "plot": [plot]})])
        lists[plot] = library.shelf(file, models, items=things, users=grown).recommend("new", n=30)
    mine, other = ("bed", "field") if people.filter(who="u3")["plot"][0] == "bed" else ("field", "bed")
    assert lists[mine]["item"].to_list() == listed["item"].to_list()
    assert lists[other]["score"].to_list() != listed["score"].to_list()
    touched = shelf.why_not("u3", recent=["i4", "i3"])
    assert (
        touched == "user 'u3' is not in the training data; computed from 2 recent items and their row of the user table"
    )
    # a table that lost a column serves all the same
    soil = people.drop("plot").with_columns(soil=pl.lit("clay"))
    bare = library.shelf({**file, "new_items": None}, models, users=soil)
    assert bare.why_not("u3").startswith("popular: user 'u3' is not in the training data")


def test_a_shelf_lists_without_a_service_as_its_file_says():
    train = library.matrix(library.interactions(FRAME, **NAMES, time="day"))
    models = [library.fit(library.model("als", rank=4), train), library.fit("popular", train)]
    things = pl.DataFrame({"what": [f"i{n}" for n in range(25)], "sort": [f"s{n % 3}" for n in range(25)]})
    shelf = library.shelf(SHELF, models, items=things)
    known = set(FRAME.filter(who="u3")["what"])
    listed = shelf.recommend("u3", n=6)
    assert listed["position"].to_list() == [1, 2, 3, 4, 5, 6][: listed.height]
    assert not known & set(listed["item"])
    assert "s1" not in set(listed["sort"])
    allowed = [
        item for item in things.filter(pl.col("sort") != "s1")["what"] if item in set(train.items.ids.to_pylist())
    ]
    plain = models[0].recommend("u3", n=6, candidates=allowed)
    unpinned = [item for item, source in listed.select("item", "source").iter_rows() if source != "pinned"]
    assert unpinned == [item for item in plain["item"] if item in unpinned]
    assert shelf.why_not("u3") is None
    assert (
        shelf.why_not("nobody") == "popular: user 'nobody' is not in the training data, and no recent items were given"
    )
    assert shelf.why_not("nobody", recent=["i4"]).startswith(
        "user 'nobody' is not in the training data; computed from 1 recent item"
    )
    with pytest.raises(UnknownNameError, match="there is no model 'alz'; did you mean 'als'"):
        library.shelf(SHELF | {"candidates": [{"model": "alz"}]}, models, items=things)
    with pytest.raises(InputError, match="there is no item column 'sorts' to show"):
        library.shelf(SHELF | {"show": ["sorts"]}, models, items=things)


@pytest.mark.parametrize(
    "name", [name for name in FAMILIES if name not in ("item_content", "user_content", "trending")]
)
def test_one_users_list_is_the_same_alone_and_among_others(name):
    rows = library.interactions(FRAME, **NAMES, value="stars", time="day", scale=(1, 5))
    for use in ("weights", "values"):
        train = library.matrix(rows, use=use)
        if use == "weights" and FAMILIES[name].feedback == "explicit":
            continue
        members = ["item_knn", {"als": {"rank": 4, "iterations": 2}}]
        small = {"rank": 4, "iterations": 2, "members": members, "folds": 2, "rounds": 3, "least": 5}
        params = {key: value for key, value in small.items() if key in library.model(name).params()}
        fitted = library.fit(library.model(name, **params), train)
        together = fitted.recommend(["u3", "u5"], n=7)
        alone = fitted.recommend("u3", n=7)
        first = together.filter(user="u3")
        assert alone["item"].to_list() == first["item"].to_list()
        # products of 32-bit factors, summed in another order
        np.testing.assert_allclose(alone["score"], first["score"], rtol=SINGLE)


def test_frames_that_were_split_beforehand_stay_as_they_are():
    parts = {"training": FRAME[:1000], "validation": FRAME[1000:1200], "test": FRAME[1200:]}
    split = library.split(library.interactions(parts, **NAMES), by="given", min_user=1)
    assert [stage.part for stage in split.parts.stages] == ["validation", "test"]
    pairs = FRAME[:1000].select("who", "what").unique()
    assert split.train.n_cells == pairs.height
    held_out = FRAME[1000:1200].select("who", "what").unique().join(pairs, on=["who", "what"], how="anti")
    known = held_out.filter(pl.col("who").is_in(pairs["who"].implode()), pl.col("what").is_in(pairs["what"].implode()))
    assert len(split.validation.indices) == known.height
    with pytest.raises(DataError, match="there is no part 'train'; did you mean 'training'"):
        library.interactions({"train": FRAME}, **NAMES)
    with pytest.raises(DataError, match="need a test part"):
        library.interactions({"training": FRAME}, **NAMES)


def test_users_are_held_out_and_folds_take_turns():
    rows = library.interactions(FRAME, **NAMES, time="day")
    held_out = library.split(rows, by="users", test=0.2, validation=0.2, show=0.5)
    judged = held_out.parts.stages[-1]
    assert not set(judged.shown.users.ids.to_pylist()) & set(held_out.whole.users.ids.to_pylist())
    board = library.compare(held_out, ["item_knn"], progress=False).table
    assert board["test"].is_finite().all()
    folds = library.split(rows, by="folds", folds=3)
    assert [stage.fold for stage in folds.parts.stages if stage.part == "test"] == [1, 2, 3]
    assert library.compare(folds, ["item_knn"], progress=False).table.height == 2
    with pytest.raises(TypeError, match="min_users"):
        library.split(rows, min_users=3)


def test_a_shelf_is_evaluated_before_it_is_served():
    rows = library.interactions(FRAME, **NAMES, time="day")
    parts = library.split(rows, test=0.2, validation=0.2)
    result = library.compare(parts, ["item_knn", library.model("als", rank=4)], metric="ndcg@5", progress=False)
    models = list(result.models.values())
    plain = {"shelf": "plain", "candidates": [{"model": "als"}], "fallback": [{"model": "popular"}]}
    served = library.shelf(plain, models).evaluate(parts, "ndcg@5")
    # one model that lists what it ranks first does as it did in the comparison, which keeps figures by user in float32
    assert served["stage"].to_list() == ["as served"]
    board = dict(result.table.select("contender", "test").iter_rows())
    assert served["mean"].to_list() == [pytest.approx(board["als"], rel=1e-6)]
    two = plain | {
        "candidates": [{"model": "als", "take": 3}, {"model": "item_knn", "take": 3}],
        "score": {"model": "als"},
    }
    stages = library.shelf(two, models).evaluate(parts, "ndcg@5", users=10)
    als, knn, together = stages["mean"].to_list()[:3]
    assert max(als, knn) <= together <= als + knn
    assert stages["stage"].to_list()[3:] == ["order of the candidates", "as served"]
    assert stages["users"].to_list()[0] == 10
    with pytest.raises(InputError, match="lists alone do not give auc"):
        library.shelf(plain, models).evaluate(parts, "auc")
    with pytest.raises(InputError, match=r"als was not fitted on parts\.whole"):
        library.shelf(plain, models).evaluate(library.split(rows, test=0.3, validation=0.2))
    with pytest.raises(InputError, match="folds make several test parts"):
        library.shelf(plain, models).evaluate(library.split(rows, by="folds", folds=2))


def test_a_comparison_is_shown_searched_and_drawn():
    parts = library.split(library.interactions(FRAME, **NAMES, time="day"), test=0.2, validation=0.2)
    searched = library.tuned("als", attempts=3, rank={"choose": [2, 3, 4]}, iterations=4)
    result = library.compare(parts, {"item_knn": "item_knn", "<b>als</b>": searched}, every=1, progress=False)
    mine = result.attempts.filter(pl.col("contender") == "<b>als</b>")
    assert mine.height == 3
    assert mine.filter("best")["value"].to_list() == [mine["value"].max()]
    best = mine.filter("best")["chosen"].to_list()[0]
    assert result.models["<b>als</b>"].model.rank == best["rank"]
    judged = result.rounds.filter(pl.col("ndcg@10").is_not_null())
    assert judged["contender"].unique().to_list() == ["<b>als</b>"]
    assert judged["iteration"].to_list() == [1, 2, 3, 4]
    html = result._repr_html_()
    assert "&lt;b&gt;als&lt;/b&gt;" in html
    assert "<b>" not in html
    assert f"{result.table['test'][0]:.4f}" in html
    [axes] = result.plot().axes
    assert [label.get_text() for label in axes.get_yticklabels()] == result.table["contender"].reverse().to_list()
    points = {round(line.get_xdata()[0], 9) for line in axes.lines if len(line.get_xdata()) == 1}
    assert {round(value, 9) for value in result.table["test"]} <= points
    [tuning] = result.plot_tuning("<b>als</b>").axes
    assert tuning.get_xlabel() == "rank"
    [curve] = result.plot_curves().axes[0].lines
    assert curve.get_ydata().tolist() == judged["ndcg@10"].to_list()
    with pytest.raises(ParameterError, match="'item_knn' was not tuned; these were: <b>als</b>"):
        result.plot_tuning("item_knn")
    explained = result.models["item_knn"].explain("u1", "i2")
    assert explained.formula in explained._repr_html_()
    assert "training cells" in parts._repr_html_()
