"""What the chances of a contest's contenders are worth."""

from __future__ import annotations

from pydantic import Field

from gleaner.wire.common import Message
from gleaner.wire.models.cards import Likelihood


class ContenderLikelihood(Message):
    """One contender's chances, on the test part."""

    contender: str
    likelihood: Likelihood


class LikelihoodReport(Message):
    """Contenders that have chances, in the order of the leaderboard."""

    contenders: list[ContenderLikelihood] = Field(description="None where no model has a likelihood.")
