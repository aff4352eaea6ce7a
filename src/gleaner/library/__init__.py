"""Gleaner without the service: from a frame to a compared, explained, saved model, in a notebook or a script.

    import gleaner.library as gl

    data = gl.interactions(frame, user="grower", item="variety", kind="kind", time="at")
    parts = gl.split(data, kinds={"view": 1, "save": 3, "request": 5})
    comparison = gl.compare(parts, ["item_knn", gl.model("als", rank=64)])
    als = comparison.best
    als.recommend("g-0417")

Frames may be Polars or pandas; answers are Polars frames. Every call takes its seed, and the same seed gives the same
answer.
"""

from __future__ import annotations

from gleaner.core.preparation.transforms import Transform
from gleaner.library.comparing import ContestResult, compare
from gleaner.library.fitting import families, fit, judge_of, model
from gleaner.library.frames import features, interactions
from gleaner.library.parts import SplitParts, matrix, split
from gleaner.library.saving import load, save
from gleaner.library.shelves import LocalShelf, shelf
from gleaner.library.tuned import TunedContender, tuned

__all__ = [
    "ContestResult",
    "LocalShelf",
    "SplitParts",
    "Transform",
    "TunedContender",
    "compare",
    "families",
    "features",
    "fit",
    "interactions",
    "judge_of",
    "load",
    "matrix",
    "model",
    "save",
    "shelf",
    "split",
    "tuned",
]
