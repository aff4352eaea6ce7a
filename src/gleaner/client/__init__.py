"""The client library: `Client` and `AsyncClient` send typed calls made by the functions of `gleaner.client.calls`.

from gleaner.client import Client, calls

with Client() as gleaner:
    answer = gleaner.send(calls.recommend("for-growers", user="g-0417", n=10))
    for place in answer.list:
        print(place.position, place.item, place.score)
"""

from typing import TYPE_CHECKING

from gleaner.client.errors import (
    ClientError,
    DeniedError,
    JobFailedError,
    NoAnswerError,
    NotFoundError,
    NotUnderstoodError,
    RefusedError,
    ServiceFailedError,
)
from gleaner.client.http import DEFAULT_URL, Client

if TYPE_CHECKING:
    from gleaner.client.http_async import AsyncClient

__all__ = [
    "DEFAULT_URL",
    "AsyncClient",
    "Client",
    "ClientError",
    "DeniedError",
    "JobFailedError",
    "NoAnswerError",
    "NotFoundError",
    "NotUnderstoodError",
    "RefusedError",
    "ServiceFailedError",
]


def __getattr__(name: str) -> type["AsyncClient"]:
    """`AsyncClient`, loaded when it is asked for."""
    if name != "AsyncClient":
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from gleaner.client.http_async import AsyncClient

    return AsyncClient
