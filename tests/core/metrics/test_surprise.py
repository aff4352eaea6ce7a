"""Seven definitions of unexpectedness against plain loops, and what is made of them."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import sparse
from sklearn.decomposition import PCA, KernelPCA, TruncatedSVD

from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import CancelledError, DataError
from gleaner.core.metrics import agreement, surprise
from gleaner.core.metrics.segments import in_quantiles
from gleaner.core.metrics.surprise import AnalysedLists, normalised, per_user, summary, surprises
from tolerances import KEPT

N_USERS, N_ITEMS, N, M = 40, 25, 6, 5


def world(seed: int = 1, *, relevant: bool = True) -> AnalysedLists:
    random = np.random.default_rng(seed)
    has = random.random((N_USERS, N_ITEMS)) < 0.25
    has[:, 0] |= ~has.any(axis=1)
    users, items = np.nonzero(has)
    ids = [IdMap([f"{side}{place}" for place in range(n)]) for side, n in (("u", N_USERS), ("i", N_ITEMS))]
    history = InteractionMatrix.from_cells(users, items, np.ones(len(users)), *ids)
    lists = np.stack([random.permutation(N_ITEMS)[:N] for _ in range(N_USERS)]).astype(np.int32)
    lists[3, 4:] = -1
    expected = np.stack([random.permutation(N_ITEMS)[:M] for _ in range(N_USERS)]).astype(np.int32)
    expected[5, 3:] = -1
    vectors = sparse.csr_array((random.random((N_ITEMS, 7)) < 0.4).astype(np.float64))
    known = random.random(lists.shape) < 0.4 if relevant else None
    return AnalysedLists(lists, np.arange(N_USERS, dtype=np.int32), history, expected, known, vectors)


def naive(listed: AnalysedLists) -> dict[str, list[list[float]]]:
    """The formulas by the book, one item at a time, from sets and plain numbers."""
    has = [set(map(int, listed.history.history(u)[0])) for u in range(N_USERS)]
    vectors = listed.vectors.toarray().tolist()
    result = {name: [] for name in surprise.DEFINITIONS}

    def distance(a: int, b: int) -> float:
        dot = sum(x * y for x, y in zip(vectors[a], vectors[b], strict=True))
        lengths = [math.sqrt(sum(x * x for x in vectors[each])) for each in (a, b)]
        return 1 - (dot / (lengths[0] * lengths[1]) if all(lengths) else 0.0)

    def association(a: int, b: int) -> float:
        both = sum(a in each and b in each for each in has) / N_USERS
        alone = [sum(item in each for each in has) / N_USERS for item in (a, b)]
        if both == 0:
            return -1.0
        return 1.0 if both == 1 else math.log(both / (alone[0] * alone[1])) / -math.log(both)

    for u in range(N_USERS):
        expected = [int(item) for item in listed.expected[u] if item >= 0]
        rows = {name: [] for name in result}
        hits = 0
        for place, item in enumerate(map(int, listed.lists[u])):
            if item < 0:
                for row in rows.values():
                    row.append(math.nan)
                continue
            relevant = 1 if listed.relevant is None else int(listed.relevant[u][place])
            hits += relevant
            primitive = 1 - expected.index(item) / M if item in expected else 0.0
            rows["murakami"].append(max(1 - place / N - primitive, 0) * relevant * hits / (place + 1))
            rows["ge"].append(float(item not in expected and relevant))
            rows["adamopoulos"].append(min(distance(item, other) for other in has[u] | set(expected)))
            if item in expected:
                rows["adamopoulos"][-1] = 0.0
            rows["kaminskas_company"].append((1 - max(association(item, other) for other in has[u])) / 2)
            rows["kaminskas_content"].append(min(distance(item, other) for other in has[u]))
            rows["vargas_profile"].append(sum(distance(item, other) for other in has[u]) / len(has[u]))
            share = max(sum(item in each for each in has), 1) / N_USERS
            rows["vargas_popularity"].append(-math.log2(share))
        for name, row in rows.items():
            result[name].append(row)
    return result


@pytest.mark.parametrize("relevant", [True, False])
@pytest.mark.parametrize("name", surprise.DEFINITIONS)
def test_each_definition_is_its_formula(name, relevant):
    listed = world(relevant=relevant)
    np.testing.assert_allclose(surprises(listed)[name], naive(listed)[name], atol=KEPT)


def test_without_content_what_needs_it_is_left_out():
    listed = world()
    bare = AnalysedLists(listed.lists, listed.user_rows, listed.history, listed.expected, listed.relevant)
    assert set(surprises(bare)) == {"murakami", "ge", "kaminskas_company", "vargas_popularity"}


def test_an_item_of_the_history_is_no_surprise_in_content():
    listed = world()
    own = np.stack([np.resize(listed.history.history(u)[0], N) for u in range(N_USERS)]).astype(np.int32)
    actual = surprises(AnalysedLists(own, listed.user_rows, listed.history, listed.expected, None, listed.vectors))
    empty = np.asarray(listed.vectors.sum(axis=1)).ravel() == 0
    assert np.allclose(actual["kaminskas_content"][~empty[own]], 0, atol=KEPT)
    assert np.allclose(actual["kaminskas_company"], 0, atol=KEPT)


def test_it_stops_when_asked_and_refuses_what_does_not_fit(monkeypatch):
    with pytest.raises(CancelledError):
        surprises(world(), progress=lambda done: False)
    monkeypatch.setattr(surprise, "MOST_CELLS", 100)
    with pytest.raises(DataError, match="25 listed items against 25 are too many to compare"):
        surprises(world())


def test_figures_are_normalised_and_summed_up():
    values = np.array([[1.0, 3.0], [np.nan, 5.0], [np.nan, np.nan]])
    np.testing.assert_array_equal(normalised(values), [[0, 0.5], [np.nan, 1], [np.nan, np.nan]])
    np.testing.assert_array_equal(per_user(values), [2, 5, np.nan])
    assert summary(per_user(values)) == {
        "mean": 3.5, "deviation": 1.5, "least": 2.0, "quarter": 2.75, "half": 3.5, "three_quarters": 4.25, "most": 5.0
    }  # fmt: skip
    assert normalised(np.full((2, 2), 7.0)).tolist() == [[0, 0], [0, 0]]


def table(n: int = 60) -> np.ndarray:
    random = np.random.default_rng(4)
    common = random.normal(size=(n, 1))
    return np.hstack([common + 0.3 * random.normal(size=(n, 3)), random.random((n, 1))])


def test_rank_correlations_of_hand_made_columns():
    tau, rho = agreement.rank_correlations(np.array([[1, 4, 1, 7], [2, 3, 3, 7], [3, 2, 2, 7], [4, 1, 4, 7.0]]))
    assert tau[0, 1] == rho[0, 1] == -1
    # five of six pairs in order
    assert tau[0, 2] == pytest.approx((5 - 1) / 6)
    assert rho[0, 2] == pytest.approx(1 - 6 * 2 / (4 * 15))
    assert np.isnan(tau[0, 3])
    assert tau[3, 3] == 1


def test_the_indexes_are_those_of_a_library():
    values = table()
    whole = (values - values.mean(axis=0)) / values.std(axis=0)
    mine, theirs = agreement.principal(values), PCA().fit(whole)
    np.testing.assert_allclose(mine.explained, theirs.explained_variance_ratio_)
    assert abs(np.corrcoef(mine.values, theirs.transform(whole)[:, 0])[0, 1]) == pytest.approx(1)
    plain = agreement.singular(values)
    svd = TruncatedSVD(1, algorithm="arpack").fit(values)
    assert abs(np.corrcoef(plain.values, svd.transform(values)[:, 0])[0, 1]) == pytest.approx(1)
    assert plain.explained[0] == pytest.approx(svd.singular_values_[0] ** 2 / (values**2).sum())


@pytest.mark.parametrize(("mine", "theirs"), [("linear", "linear"), ("rbf", "rbf"), ("polynomial", "poly"), ("cosine", "cosine"), ("sigmoid", "sigmoid")])  # fmt: skip
def test_kernel_components_are_those_of_a_library(mine, theirs):
    values = table()
    whole = (values - values.mean(axis=0)) / values.std(axis=0)
    actual = agreement.kernel_principal(values, mine, seed=1)
    library_result = KernelPCA(1, kernel=theirs, gamma=1 / 4, degree=3, coef0=1).fit(whole)
    assert abs(np.corrcoef(actual.values, library_result.transform(whole)[:, 0])[0, 1]) == pytest.approx(1, abs=KEPT)
    assert actual.sampled == 60
    assert actual.explained == sorted(actual.explained, reverse=True)


def test_many_users_are_placed_by_a_sample(monkeypatch):
    values = table(400)
    exact = agreement.kernel_principal(values, "rbf", seed=1)
    monkeypatch.setattr(agreement, "MOST_FOR_KERNEL", 150)
    sampled = agreement.kernel_principal(values, "rbf", seed=1)
    assert (sampled.sampled, len(sampled.values)) == (150, 400)
    assert np.corrcoef(exact.values, sampled.values)[0, 1] > 0.85
    assert np.array_equal(sampled.values, agreement.kernel_principal(values, "rbf", seed=1).values)


def test_an_index_grows_with_what_the_columns_say():
    values = table()
    for actual in (
        agreement.principal(values),
        agreement.singular(values),
        agreement.kernel_principal(values, "rbf", 1),
    ):
        assert np.corrcoef(actual.values, values[:, :3].mean(axis=1))[0, 1] > 0.5


def test_numbers_fall_into_ranges_of_equal_size():
    masks = in_quantiles(np.arange(8) / 2, 4)
    assert [name for name, _ in masks] == ["0 to 1", "1 to 2", "2 to 3", "3 to 3.5"]
    assert [int(mask.sum()) for _, mask in masks] == [2, 2, 2, 2]
