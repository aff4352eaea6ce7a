"""The full example on the shipped data: import, contest, shelf, lists; every step checked."""

from __future__ import annotations

import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import click

from gleaner.client import DEFAULT_URL, Client, NotFoundError, calls
from gleaner.demo.shipped import DATASET, ROLES, TABLES, shipped, unpack
from gleaner.demo.summary import leaderboard_lines
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.contests.runs import Run
from gleaner.wire.datasets import DatasetVersion
from gleaner.wire.imports import ImportRequest, Source
from gleaner.wire.shelves.shelf import RecommendationAnswer

T = TypeVar("T")

CONTEST = "first-look"
SHELF = "for-growers"
EXPECTED_ROWS = 90_000
EXPECTED_FAMILIES = {"popular", "item_knn", "als"}


class CheckError(RuntimeError):
    """A step's result is not what it must be."""


def check(holds: bool, what: str) -> None:
    """Raise CheckError unless something holds."""
    if not holds:
        raise CheckError(what)


class Demo:
    """One run of the example against a running service."""

    def __init__(self, url: str) -> None:
        self.url = url
        self.client = Client(url)

    def run(self) -> None:
        """Every step in order. Raises CheckError."""
        with self.client:
            version = self._step("data", self._data)
            self._say_data(version)
            run = self._step("contest", lambda: self._contest(version))
            self._say_contest(run)
            serving = self._step("shelf", lambda: self._shelf(run))
            click.echo(f"  {serving} is served")
            self._step("lists", lambda: self._lists(version))
        self._say_next()

    def _step(self, name: str, work: Callable[[], T]) -> T:
        begun = time.monotonic()
        click.echo(f"\n{name}")
        result = work()
        click.echo(f"  ({time.monotonic() - begun:.1f} s)")
        return result

    def _data(self) -> DatasetVersion:
        """Import the shipped files, unless an earlier run did."""
        try:
            newest = self.client.send(calls.dataset(DATASET)).versions[-1]
            click.echo(f"  {newest.name} is here from an earlier run")
        except NotFoundError:
            with tempfile.TemporaryDirectory() as folder:
                names = TABLES.values()
                sent = [self.client.send(calls.upload(unpack(name, Path(folder)))) for name in names]
            rows, items, users = (Source(upload=each.upload, file=each.file) for each in sent)
            request = ImportRequest(interactions=rows, roles=ROLES, items=items, users=users)
            self.client.wait(self.client.send(calls.import_version(DATASET, request)).id)
        version = self.client.send(calls.dataset_version(DATASET, 1))
        check(version.rows == EXPECTED_ROWS, f"{version.name} has {version.rows} rows, not {EXPECTED_ROWS}")
        kinds = {count.kind for count in version.profile.kinds or []}
        check(kinds == {"view", "save", "request", "grown"}, f"kinds are {kinds}")
        check(any(column.name == "name" for column in version.item_columns), "the item table is missing")
        return version

    def _contest(self, version: DatasetVersion) -> Run:
        """Run the shipped contest, unless an earlier run did on the same file."""
        text = shipped("first-look.yaml")
        try:
            run = self.client.send(calls.run(CONTEST))
        except NotFoundError:
            run = None
        if run is not None and run.state == "done" and run.file == text and run.data == version.name:
            click.echo(f"  {run.name} is here from an earlier run")
        else:
            queued = self.client.send(calls.run_contest(FileRequest(file=text, name="first-look.yaml")))
            self.client.wait(queued.job)
            run = self.client.send(calls.run(queued.name))
        check(run.winner is not None, "the contest has no winner")
        families = {standing.family for standing in run.standings}
        check(families == EXPECTED_FAMILIES, f"contenders are {families}")
        for standing in run.standings:
            figure = standing.figure(run.decide_by)
            check(
                figure is not None and 0 < (figure.low or 0) <= figure.mean <= (figure.high or 0) < 1,
                f"{standing.contender}: {figure}",
            )
            check(standing.model is not None, f"{standing.contender} is not registered")
            if standing.family != "popular":
                gap = standing.against_popular
                check(
                    gap is not None and gap.verdict == "better",
                    f"{standing.contender} does not beat popularity: {gap}",
                )
        return run

    def _shelf(self, run: Run) -> str:
        """Publish the shipped shelf, unless it is served already with these models."""
        text = shipped("for-growers.yaml")
        wanted = {standing.model for standing in run.standings if standing.family in ("als", "popular")}
        try:
            shelf = self.client.send(calls.shelf(SHELF))
            if shelf.file == text and set(shelf.spec.models()) == wanted:
                return shelf.name
        except NotFoundError:
            pass
        return self.client.send(calls.publish_shelf(FileRequest(file=text, name="for-growers.yaml"))).name

    def _lists(self, version: DatasetVersion) -> None:
        """Ask for a known user, a new one with two recent items, and someone anonymous."""
        known = self.client.send(calls.find_users(DATASET, version.number, limit=5))[-1].user
        history = self.client.send(calls.history(DATASET, version.number, known))
        touched = {row.item for row in history.rows}
        recent = list(dict.fromkeys(row.item for row in history.rows))[:2]
        answers = {
            f"known user {known}": calls.recommend(SHELF, user=known, n=5),
            f"new user, just touched {' and '.join(recent)}": calls.recommend(
                SHELF, user="new-grower", recent=recent, n=5
            ),
            "anonymous": calls.recommend(SHELF, n=5),
        }
        for who, call in answers.items():
            answer = self.client.send(call)
            self._check_list(who, answer, touched)
            self._say_list(who, answer)

    def _check_list(self, who: str, answer: RecommendationAnswer, touched: set[str]) -> None:
        items = [place.item for place in answer.list]
        check(len(set(items)) == 5, f"{who}: {items}")
        scores = [place.score or 0 for place in answer.list]
        check(scores == sorted(scores, reverse=True), f"{who}: scores do not fall: {scores}")
        if who.startswith("known"):
            check(answer.fallback is None, f"{who} got a fallback: {answer.fallback}")
            check(answer.left_out["known"] > 0, f"{who}: nothing known was left out")
        else:
            check(bool(answer.fallback or answer.folded_in), f"{who} is served as if training had known them")
        if who.startswith("new"):
            check(answer.folded_in is not None, f"{who}: {answer.fallback}")

    def _say_data(self, version: DatasetVersion) -> None:
        profile = version.profile
        kinds = ", ".join(f"{count.rows:,} {count.kind}" for count in profile.kinds or [])
        click.echo(
            f"  {version.name}: {profile.rows:,} rows, {profile.users:,} growers, {profile.items:,} varieties ({kinds})"
        )

    def _say_contest(self, run: Run) -> None:
        for line in leaderboard_lines(run):
            click.echo("  " + line)

    def _say_list(self, who: str, answer: RecommendationAnswer) -> None:
        how = f" [fallback: {answer.fallback}]" if answer.fallback else ""
        how = f" [{answer.folded_in}]" if answer.folded_in else how
        click.echo(f"  {who}{how}")
        for place in answer.list:
            click.echo(
                f"    {place.position}. {place.columns.get('name', place.item)} ({place.item}, {place.score:.3f})"
            )

    def _say_next(self) -> None:
        click.echo(f"\nconsole: {self.url}\nAPI:     {self.url}/v1 (described at {self.url}/openapi.json)\n\ntry next")
        program = "gleaner" if shutil.which("gleaner") else sys.argv[0]
        elsewhere = "" if self.url == DEFAULT_URL else f" --url {self.url}"
        for line in (f"data show {DATASET}", f"contest show {CONTEST}", f"shelf try {SHELF} --user g-0417"):
            click.echo(f"  {program} {line}{elsewhere}")
