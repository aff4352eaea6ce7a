"""Does a held-out part leak into training? Looked at on every split, whoever made it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

import polars as pl

from gleaner.core.data.rows import InteractionRows

PAIR = ["user", "item"]
IDENTITY = ("user", "item", "kind", "time", "value")


@dataclass(frozen=True)
class Leak:
    """One held-out part against everything a model of that stage learns from.

    same_rows: held-out rows that stand in training too, equal in every column. same_pairs: held-out rows whose (user,
    item) pair training knows; they are no candidates and are not counted. early_rows: held-out rows dated before the
    last training row, and early_users: those dated before the same user's last training row; null without times.
    """

    part: str
    rows: int
    same_rows: int
    same_pairs: int
    early_rows: int | None
    early_users: int | None
    verdict: str
    leaks: bool


def check_leaks(part: str, held_out: InteractionRows, train: InteractionRows, rule: str) -> Leak:
    """Compare a held-out part with the rows training sees. `rule`: the split's, which decides what counts as a leak:
    time order matters where the split is meant to be by time (`time`, `last`), and is only reported for others."""
    columns = [name for name in IDENTITY if name in held_out.frame.columns]
    # the held-out part is the small side: only training rows of its pairs matter
    known = train.frame.select(columns).join(held_out.frame.select(PAIR).unique(), on=PAIR, how="semi")
    shared = held_out.frame.join(known.select(PAIR).unique(), on=PAIR, how="semi")
    same = shared.join(known, on=columns, how="semi", nulls_equal=True).height
    early = early_users = None
    if held_out.has("time"):
        early, early_users = _early(held_out.frame, train.frame)
    verdict, leaks = _verdict(rule, len(held_out), same, early, early_users)
    return Leak(part, len(held_out), same, shared.height, early, early_users, verdict, leaks)


def _early(held_out: pl.DataFrame, train: pl.DataFrame) -> tuple[int, int]:
    last = train["time"].max()
    if not isinstance(last, datetime):
        return 0, 0
    per_user = train.group_by("user").agg(last=pl.col("time").max())
    own = held_out.select("user", "time").join(per_user, on="user", how="inner")
    return int((held_out["time"] < last).sum()), int((own["time"] < own["last"]).sum())


def _verdict(rule: str, rows: int, same: int, early: int | None, early_users: int | None) -> tuple[str, bool]:
    reasons = []
    if same:
        reasons.append(f"{same:,} of {rows:,} rows stand in training too, to the letter")
    if rule in ("time", "given") and early:
        reasons.append(f"{early:,} rows are dated before the last training row")
    if rule == "last" and early_users:
        reasons.append(f"{early_users:,} rows are dated before the same user's last training row")
    if reasons:
        return "; ".join(reasons), True
    if early and rule not in ("time", "last"):
        return (
            f"no row is on both sides; {early:,} rows are dated before the last training row, as this rule allows",
            False,
        )
    return (
        "no row is on both sides, and time runs from training to this part"
        if early == 0
        else "no row is on both sides",
        False,
    )
