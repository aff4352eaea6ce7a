"""A shelf's file to be published: the version it is based on, and whether models may change."""

from __future__ import annotations

from pydantic import Field

from gleaner.wire.contests.contest import FileRequest


class PublishRequest(FileRequest):
    """A shelf's file to publish as the next version."""

    based_on: int | None = Field(
        None,
        ge=0,
        lt=2**31,
        description="Number of the version that the file was edited from; 0 for a new shelf. Publishing is refused if "
        "another version is served by then. Without it nothing is compared.",
    )
    update_models: bool = Field(
        False,
        description="Confirm that models change: names without a number then mean the newest model fitted on all rows, "
        "instead of the one that is served. Without it publishing is refused if any model would change.",
    )
