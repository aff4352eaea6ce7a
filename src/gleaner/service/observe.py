"""Figures about the service itself, in the OpenMetrics format."""

from __future__ import annotations

from prometheus_client import CollectorRegistry, Counter, Histogram
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest

BUCKETS = (0.001, 0.002, 0.005, 0.01, 0.015, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 10.0)


class Meters:
    """Counters and timings of one process, in a registry of its own."""

    media_type = CONTENT_TYPE_LATEST

    def __init__(self) -> None:
        self.registry = CollectorRegistry()
        self.requests = Counter(
            "gleaner_requests", "Requests answered.", ("method", "route", "status"), registry=self.registry
        )
        self.seconds = Histogram(
            "gleaner_request_seconds", "Time to answer.", ("route",), buckets=BUCKETS, registry=self.registry
        )
        self.lists = Counter("gleaner_lists", "Lists served.", ("shelf", "fallback"), registry=self.registry)

    def exposition(self) -> bytes:
        """Everything, as text."""
        return generate_latest(self.registry)
