"""Boosted trees as arrays: learned by a general-purpose library, kept, checked and walked by ourselves."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.errors import DataError
from gleaner.core.kernels import second_stage as kernels
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.parallel import default_threads, even_ranges, run_ranges

LEAF = -1

ROWS_AT_ONCE = 16_384

LARGE = 1_000_000
"""Entries of a table from which on several threads learn trees."""


@dataclass(frozen=True, eq=False)
class Trees:
    """A sum of regression trees over inputs, float32 rows.

    roots: int32 (n_trees,). feature: int32 (n_nodes,), the input that a node asks for, -1 at a leaf. A row goes left
    where that input is at most `threshold`, float32. value: float64, what a leaf adds; of an inner node the mean of the
    training rows below it, of which explanations are made. Children stand behind their parents.
    """

    n_inputs: int
    roots: np.ndarray
    feature: np.ndarray
    threshold: np.ndarray
    left: np.ndarray
    right: np.ndarray
    value: np.ndarray

    def sums(self, table: np.ndarray) -> np.ndarray:
        """The score of every row: float64 (n,)."""
        out = np.zeros(len(table))
        rows, parts = np.ascontiguousarray(table, np.float32), self._parts()

        def work(lo: int, hi: int) -> None:
            mine: Any = (rows[lo:hi], *parts, out[lo:hi])
            kernels.tree_sums(*mine)

        run_ranges(work, even_ranges(len(rows), ROWS_AT_ONCE))
        return out

    def terms(self, row: np.ndarray) -> tuple[float, np.ndarray]:
        """Where every row begins, and what each input adds to one: their sum is its score."""
        adds = np.zeros(len(row))
        parts: Any = (np.ascontiguousarray(row, np.float32), *self._parts(), adds)
        start = kernels.tree_terms(*parts)
        return float(start), adds

    def _parts(self) -> Any:
        return self.roots, self.feature, self.threshold, self.left, self.right, self.value

    def state(self) -> Arrays:
        """The arrays."""
        names = ("roots", "feature", "threshold", "left", "right", "value")
        sizes = {"n_inputs": self.n_inputs, "trees.n_nodes": len(self.feature)}
        return {f"trees.{name}": part for name, part in zip(names, self._parts(), strict=True)} | {
            name: np.array([size], np.int64) for name, size in sizes.items()
        }

    @staticmethod
    def layout(n_inputs: str) -> Layout:
        """What the arrays must be."""
        nodes = ("nodes",)
        return {
            n_inputs: ArraySpec("int64", (1,), low=1),
            "trees.n_nodes": ArraySpec("int64", (1,), low=1),
            "trees.roots": ArraySpec("int32", ("trees",), low=0, below="trees.n_nodes"),
            "trees.feature": ArraySpec("int32", nodes, low=LEAF, below=n_inputs),
            "trees.threshold": ArraySpec("float32", nodes),
            "trees.left": ArraySpec("int32", nodes, low=0, below="trees.n_nodes"),
            "trees.right": ArraySpec("int32", nodes, low=0, below="trees.n_nodes"),
            "trees.value": ArraySpec("float64", nodes),
        }

    @classmethod
    def load_state(cls, arrays: Arrays) -> Trees:
        """Load them from a state whose layout was checked. Raises DataError where a walk would not end."""
        trees = cls(
            int(arrays["n_inputs"][0]),
            *(arrays[f"trees.{name}"] for name in ("roots", "feature", "threshold", "left", "right", "value")),
        )
        if int(arrays["trees.n_nodes"][0]) != len(trees.feature):
            raise DataError("array 'trees.n_nodes' must say how many nodes there are", where="trees.n_nodes")
        if not len(trees.roots) or trees.roots[0] != 0 or (np.diff(trees.roots) <= 0).any():
            raise DataError("array 'trees.roots' must begin at 0 and rise", where="trees.roots")
        inner = np.flatnonzero(trees.feature >= 0)
        for name, child in (("left", trees.left), ("right", trees.right)):
            if (child[inner] <= inner).any():
                raise DataError(f"array 'trees.{name}' leads a walk back to where it was", where=f"trees.{name}")
        return trees


def learn(
    table: np.ndarray,
    labels: np.ndarray,
    groups: np.ndarray,
    options: dict[str, Any],
    report_progress: Callable[[float], object],
) -> tuple[Trees, np.ndarray]:
    """Trees that order the rows of each group, those with label 1 first, and what the splits by each input gained.

    table: float32 (n, n_inputs). groups: rows of each list, in order. LambdaRank: Burges 2010.
    """
    import lightgbm

    rounds = options.pop("rounds")
    # the library's threads wait for one another at every split: on a busy machine that costs more than it saves
    threads = default_threads() if table.size >= LARGE else 1
    data = lightgbm.Dataset(
        table, labels, group=groups, free_raw_data=True, params={"verbosity": -1, "num_threads": threads}
    )
    booster = lightgbm.train(
        {
            "objective": "lambdarank",
            "deterministic": True,
            "force_row_wise": True,
            "use_missing": False,
            "verbosity": -1,
            "num_threads": threads,
            **options,
        },
        data,
        num_boost_round=rounds,
        callbacks=[lambda env: report_progress((env.iteration + 1) / rounds)],
    )
    nodes = _Nodes()
    roots = [nodes.add(each["tree_structure"]) for each in booster.dump_model()["tree_info"]]
    return nodes.trees(roots, table.shape[1]), booster.feature_importance("gain").astype(np.float64)


class _Nodes:
    """Nodes of a library's trees, one after the other, parents before their children."""

    def __init__(self) -> None:
        self.rows: list[list[float]] = []

    def add(self, node: dict[str, Any]) -> int:
        """Put a node and all below it down; answers its place."""
        place = len(self.rows)
        if "leaf_value" in node:
            self.rows.append([LEAF, 0.0, 0, 0, node["leaf_value"]])
            return place
        self.rows.append([node["split_feature"], node["threshold"], 0, 0, node["internal_value"]])
        self.rows[place][2] = self.add(node["left_child"])
        self.rows[place][3] = self.add(node["right_child"])
        return place

    def trees(self, roots: list[int], n_inputs: int) -> Trees:
        """As arrays."""
        table = np.array(self.rows, dtype=np.float64).reshape(-1, 5)
        whole = [table[:, at].astype(np.int32) for at in (0, 2, 3)]
        # inputs are float32: the largest of them that is not above the threshold divides the rows as the threshold does
        threshold = table[:, 1].astype(np.float32)
        above = threshold.astype(np.float64) > table[:, 1]
        threshold[above] = np.nextafter(threshold[above], np.float32(-np.inf))
        return Trees(
            n_inputs,
            np.array(roots, np.int32),
            whole[0],
            threshold,
            whole[1],
            whole[2],
            np.ascontiguousarray(table[:, 4]),
        )
