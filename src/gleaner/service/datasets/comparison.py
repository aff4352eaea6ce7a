"""Two versions of a dataset side by side."""

from __future__ import annotations

import polars as pl

from gleaner.core.data.compare import compare, shares
from gleaner.core.data.profile import histogram
from gleaner.service.datasets.tables import activity_of, scan
from gleaner.service.http.state import Service
from gleaner.store.datasets import VersionFiles
from gleaner.store.records.datasets import VersionRecord
from gleaner.wire.datasets import Comparison, Drift

Side = tuple[VersionRecord, VersionFiles]


def compare_versions(service: Service, before: Side, after: Side) -> Comparison:
    """Counts and drift from what is kept with both versions; value histograms are cut alike for both."""
    items = compare(activity_of(service, before[1], "item"), activity_of(service, after[1], "item"))
    users = compare(activity_of(service, before[1], "user"), activity_of(service, after[1], "user"))
    one, two = before[0].profile, after[0].profile
    comparison = Comparison(
        before=before[0].name,
        after=after[0].name,
        counts={
            name: (getattr(one, name), getattr(two, name)) for name in ("rows", "users", "items", "density", "gini")
        },
        same_content=before[0].content_hash == after[0].content_hash,
        users_new=users["new"],
        users_gone=users["gone"],
        items_new=items["new"],
        items_gone=items["gone"],
        popularity_drift=items["drift"],
        rank_correlation=items["rank_correlation"],
        movers=[Drift(**each) for each in items["movers"]],
    )
    if one.kinds and two.kinds:
        counts = [{count.kind or "(none)": float(count.rows) for count in side} for side in (one.kinds, two.kinds)]
        comparison.kinds = [Drift(**each) for each in shares(*counts)[1]]
    if one.values and two.values and one.values.n and two.values.n:
        _compare_values(service, before, after, comparison)
    return comparison


def _compare_values(service: Service, before: Side, after: Side, comparison: Comparison) -> None:
    one, two = before[0].profile.values, after[0].profile.values
    assert one is not None
    assert two is not None
    edges = [value for value in (one.min, one.max, two.min, two.max) if value is not None]
    low, high = min(edges), max(edges)
    counts = []
    for _, files in (before, after):
        rows = scan(service, files, "interactions").filter(pl.col("value").is_not_null())
        counts.append({f"{each['at']:g}": each["rows"] for each in histogram(rows, low, high)[0]})
    drift, values = shares(*counts)
    comparison.value_drift, comparison.values = drift, [Drift(**each) for each in values]
    assert one.mean is not None
    assert two.mean is not None
    comparison.value_means = (one.mean, two.mean)
