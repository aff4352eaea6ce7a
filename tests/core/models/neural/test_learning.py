"""How networks learn: watched, stopped, resumed, refused in words; and served where there is no PyTorch."""

from __future__ import annotations

import subprocess
import sys
import textwrap

import numpy as np
import pytest

from gleaner.array_files import write_arrays
from gleaner.core.data.matrix_arrays import arrays_of
from gleaner.core.errors import CancelledError, DataError, InputError, ParameterError
from gleaner.core.models.base.registry import GROUPS, build
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.neural.machinery import pytorch
from worlds import features_for, rated_matrix

NETWORKS = sorted(GROUPS["neural"])


class Kept:
    """Checkpoints in memory."""

    def __init__(self):
        self.latest = None

    def load(self):
        return self.latest

    def save(self, checkpoint):
        copied = {name: array.copy() for name, array in checkpoint.arrays.items()}
        self.latest = type(checkpoint)(checkpoint.iteration, copied, checkpoint.best, checkpoint.record)


def small(name: str) -> dict:
    return {"rank": 4, "iterations": 6}


@pytest.mark.parametrize("name", NETWORKS)
def test_a_fit_that_was_lost_goes_on_from_its_last_epoch_to_the_same_model(name):
    matrix = rated_matrix(4)
    columns = features_for(matrix)
    whole = Watch()
    expected = build(name, small(name)).fit(matrix, features=columns, watch=whole)
    kept, seen = Kept(), []

    def lose(done):
        seen.append(done.iteration)
        if done.iteration == 4:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        build(name, small(name)).fit(matrix, features=columns, watch=Watch(checkpoints=kept, end_round=lose))
    assert kept.latest.iteration == 3
    again = Watch(checkpoints=kept, end_round=lambda done: seen.append(done.iteration))
    model = build(name, small(name)).fit(matrix, features=columns, watch=again)
    # the rounds of before are told again, for whoever listens now
    assert seen == [1, 2, 3, 4, 1, 2, 3, 4, 5, 6]
    assert [each.iteration for each in again.rounds] == [1, 2, 3, 4, 5, 6]
    assert [each.losses["training"] for each in again.rounds] == [each.losses["training"] for each in whole.rounds]
    np.testing.assert_array_equal(model.scores(np.arange(40)), expected.scores(np.arange(40)))


def test_judged_learning_stops_after_so_many_rounds_and_keeps_the_best_also_after_a_loss():
    matrix, figures = rated_matrix(4), iter([0.2, 0.5, 0.4, 0.3, 0.1])
    scores = {}

    def judge(model):
        value = next(figures)
        scores[value] = model.scores(np.arange(40))
        return {"ndcg@10": value}

    kept = Kept()

    def lose(done):
        if done.iteration == 3:
            raise KeyboardInterrupt

    params = {"rank": 4, "iterations": 50, "patience": 2}
    watch = Watch(judge=judge, decide_by="ndcg@10", checkpoints=kept, end_round=lose)
    with pytest.raises(KeyboardInterrupt):
        build("denoising_autoencoder", params).fit(matrix, watch=watch)
    figures = iter([0.4, 0.3, 0.1])
    watch = Watch(judge=judge, decide_by="ndcg@10", checkpoints=kept)
    model = build("denoising_autoencoder", params).fit(matrix, watch=watch)
    assert (watch.best, watch.stopped, len(watch.rounds)) == (2, True, 4)
    np.testing.assert_array_equal(model.scores(np.arange(40)), scores[0.5])


def test_learning_is_cancelled_between_two_batches():
    heard = []

    def progress(done, iteration):
        heard.append(done)
        return len(heard) < 3

    with pytest.raises(CancelledError):
        build("deep_fm", {"rank": 4, "batch": 16, "iterations": 5}).fit(rated_matrix(4), watch=Watch(progress=progress))
    assert len(heard) == 3
    assert heard[-1] < 1 / 5


@pytest.mark.parametrize("name", NETWORKS)
def test_a_loss_that_is_no_number_is_refused_in_the_first_epoch(name):
    matrix = rated_matrix(4)
    model = build(name, small(name))
    start = model.initial_weights

    def spoilt(random):
        weights = start(random)
        for array in weights.values():
            array[...] = np.nan
        return weights

    model.initial_weights = spoilt
    with pytest.raises(
        InputError, match=f"{name}: the loss is no longer a number in the first epoch; lower learning_rate"
    ):
        model.fit(matrix, features=features_for(matrix))


def test_a_loss_that_turns_into_no_number_stops_the_learning_and_the_best_is_kept():
    matrix, scores = rated_matrix(4), {}
    model = build("two_towers", {"rank": 4, "iterations": 9, "patience": 5})
    figures = iter([0.2, 0.5, 0.4])

    def judge(model):
        value = next(figures)
        scores[value] = model.scores(np.arange(40))
        if value == 0.4:
            model.weights_["user_ids"][...] = np.inf
        return {"ndcg@10": value}

    watch = Watch(judge=judge, decide_by="ndcg@10")
    model.fit(matrix, watch=watch)
    assert [each.iteration for each in watch.rounds] == [1, 2, 3]
    assert watch.warnings[-1].startswith("the loss is no longer a number: learning stopped in epoch 4")
    np.testing.assert_array_equal(model.scores(np.arange(40)), scores[0.5])


def test_a_batch_larger_than_the_data_is_told():
    watch = Watch()
    build("deep_fm", {"rank": 4, "iterations": 1, "batch": 100_000}).fit(rated_matrix(4), watch=watch)
    assert watch.warnings == ["batch is 100,000, and there are 255: every step looks at all of them"]


def test_without_the_extra_learning_says_how_to_install_it_and_no_more_is_missing(monkeypatch):
    monkeypatch.setattr(pytorch, "find_spec", lambda name: None)
    with pytest.raises(
        InputError, match="two_towers learns with PyTorch, which `pip install 'gleaner\\[neural\\]'` brings"
    ):
        build("two_towers", {}).fit(rated_matrix(4))
    build("als", {"rank": 4}).fit(rated_matrix(4))


def test_what_was_learned_is_loaded_scored_and_folded_in_where_there_is_no_pytorch(tmp_path):
    matrix = rated_matrix(4)
    write_arrays(arrays_of(matrix), tmp_path / "matrix.safetensors")
    for name in NETWORKS:
        model = build(name, small(name)).fit(matrix, features=features_for(matrix))
        write_arrays(model.state(), tmp_path / f"{name}.safetensors")
        rows = model.scores_of(model.fold_in(*matrix.history_in_order(3)))
        np.save(tmp_path / f"{name}.npy", np.stack([model.scores(np.array([3]))[0], rows]))
    script = f"""
        import sys
        sys.modules["torch"] = None  # any import of it raises ImportError
        from pathlib import Path
        import numpy as np
        from gleaner.array_files import read_arrays
        from gleaner.core.data.matrix_arrays import matrix_of
        from gleaner.core.models.base.registry import build
        folder = Path({str(tmp_path)!r})
        matrix = matrix_of(read_arrays(folder / "matrix.safetensors"))
        for name in {NETWORKS!r}:
            model = build(name, {small("")!r}).restore(read_arrays(folder / f"{{name}}.safetensors"), matrix)
            rows = model.scores_of(model.fold_in(*matrix.history_in_order(3)))
            np.testing.assert_array_equal(np.stack([model.scores(np.array([3]))[0], rows]), np.load(folder / f"{{name}}.npy"))
        print("served", len({NETWORKS!r}))
    """
    done = subprocess.run([sys.executable, "-c", textwrap.dedent(script)], capture_output=True, text=True)
    assert (done.stdout, done.stderr) == (f"served {len(NETWORKS)}\n", "")


@pytest.mark.parametrize(
    ("name", "params", "text"),
    [
        (
            "two_towers",
            {"user_layers": [0]},
            "user_layers must be a whole number of at least 1 and at most 8192, not 0",
        ),
        ("two_towers", {"user_layers": "wide"}, "user_layers must be a list of at most 8 widths, not 'wide'"),
        ("two_towers", {"histories": 1}, "histories must be true or false, not 1"),
        ("two_towers", {"temperature": 0}, "temperature must be a number of at least 0.001 and at most 10, not 0"),
        ("self_attention", {"rank": 10, "heads": 3}, "heads must divide rank, 10, and 3 does not"),
        ("variational_autoencoder", {"layers": []}, "layers must name at least one width, of which the blur is made"),
        ("deep_fm", {"rank": "wide"}, "rank must be a whole number of at least 1 and at most 1024, not 'wide'"),
        ("deep_fm", {"item_columns": ["colour"]}, "there is no column 'colour' to take features from"),
    ],
)
def test_parameters_that_do_not_fit_are_named(name, params, text):
    matrix = rated_matrix(4)
    with pytest.raises(ParameterError) as caught:
        build(name, params).fit(matrix, features=features_for(matrix))
    assert text in caught.value.message


@pytest.mark.parametrize(
    ("name", "params"),
    [
        ("two_towers", {"user_layers": [8192, 8192]}),
        ("deep_fm", {"layers": [8192, 8192]}),
        ("variational_autoencoder", {"layers": [8192, 8192]}),
        ("self_attention", {"length": 1000, "negatives": 1_000_000}),
    ],
)
def test_what_wide_layers_hold_is_in_the_estimate(name, params):
    """The weights, and two moments of each: a service refuses what is over its limit before it starts."""
    usual, wide = (build(name, each) for each in ({}, params))
    shape, cells = (5_000, 400_000), 100_000
    bytes_of = [each.cost(each.params(), shape, cells).bytes for each in (usual, wide)]
    assert bytes_of[1] - bytes_of[0] > 12 * 8192 * 8192


@pytest.mark.parametrize("name", NETWORKS)
def test_a_state_with_an_array_that_does_not_fit_is_refused(name):
    """Each array in turn cut short, or turned to another sort of number: never taken, never an error of another sort."""
    matrix = rated_matrix(4)
    model = build(name, small(name)).fit(matrix, features=features_for(matrix))
    state = model.state()
    for array in state:
        shorter = [state[array][:-1]] if len(state[array]) else []
        for spoilt in (*shorter, state[array].astype(np.float16)):
            with pytest.raises(DataError):
                build(name, small(name)).restore(state | {array: spoilt}, matrix)
