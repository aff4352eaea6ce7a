"""Figures about the service itself, in the OpenMetrics format."""

from __future__ import annotations

import os

from prometheus_client import CollectorRegistry, Counter, Histogram
from prometheus_client.multiprocess import MultiProcessCollector
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector

from gleaner.serving.timing import StageTimes
from gleaner.wire.events import RouteTimes

ROUTES = 24
SHARED = "PROMETHEUS_MULTIPROC_DIR"
"""Names the folder in which several serving processes count together; read by the library when it is imported."""

FINE = (0.00002, 0.00005, 0.0001, 0.0002, 0.0005, 0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.2)
BUCKETS = (0.001, 0.002, 0.005, 0.01, 0.015, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 10.0)


def quantile(buckets: list[tuple[float, float]], share: float) -> float:
    """Seconds that a share of the calls took at most. buckets: (upper edge, calls up to it), rising; of the last, which
    has no edge, the one before."""
    wanted, low, below = buckets[-1][1] * share, 0.0, 0.0
    for edge, calls in buckets:
        if calls >= wanted and calls > below:
            return low if edge == float("inf") else low + (edge - low) * (wanted - below) / (calls - below)
        low, below = edge, calls
    return low


class ServiceMetrics:
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
        self.lists = Counter(
            "gleaner_lists", "Lists served, by what stood in for a trained history.", ("shelf", "fallback"),
            registry=self.registry,
        )  # fmt: skip
        self.absent_context = Counter(
            "gleaner_absent_context", "Lists whose model looks at a column of the context that the request lacked.",
            ("shelf", "column"), registry=self.registry,
        )  # fmt: skip
        self.stages = Histogram(
            "gleaner_stage_seconds", "Time of the stages of a list, of one in sixteen.", ("shelf", "stage"),
            buckets=FINE, registry=self.registry,
        )  # fmt: skip

    def observe_stages(self, shelf: str, stages: StageTimes) -> None:
        """Put the stages of a list down."""
        for stage, seconds in stages.seconds():
            self.stages.labels(shelf, stage).observe(seconds)

    def waits(self) -> list[RouteTimes]:
        """How long calls took, by route, the most called first. A quantile is read off the histogram, evenly within its
        bucket."""
        seconds = []
        for family in self.seconds.collect():
            by_route: dict[str, list[tuple[float, float]]] = {}
            for sample in family.samples:
                if sample.name.endswith("_bucket"):
                    by_route.setdefault(sample.labels["route"], []).append((float(sample.labels["le"]), sample.value))
            for route, buckets in by_route.items():
                calls = int(buckets[-1][1])
                p50, p99 = (quantile(buckets, share) * 1000 for share in (0.5, 0.99))
                seconds.append(RouteTimes(route=route, calls=calls, p50_ms=round(p50, 3), p99_ms=round(p99, 3)))
        return sorted((each for each in seconds if each.calls), key=lambda each: -each.calls)[:ROUTES]

    def exposition(self, *more: Collector) -> bytes:
        """Everything, as text: of all serving processes, where there are several. more: what is read when asked for."""
        registry = self.registry
        if SHARED in os.environ:
            registry = CollectorRegistry()
            MultiProcessCollector(registry)
        parts = CollectorRegistry()
        for each in more:
            parts.register(each)
        ending = b"# EOF\n"
        return generate_latest(registry).removesuffix(ending) + generate_latest(parts)
