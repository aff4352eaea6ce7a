"""How old what is served is, read when metrics are asked for."""

from __future__ import annotations

import logging
from collections.abc import Iterator
from datetime import UTC, datetime

from prometheus_client.metrics_core import GaugeMetricFamily, Metric
from prometheus_client.registry import Collector
from sqlalchemy import Engine
from sqlalchemy.exc import SQLAlchemyError

from gleaner.store import models, shelves

MOST = 500
log = logging.getLogger("gleaner.service")


class ServedAges(Collector):
    """Of every shelf: seconds since its version began to be served, and since the model that scores was fitted."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine

    def collect(self) -> Iterator[Metric]:
        """Nothing while the database is away: the other metrics go on."""
        served = GaugeMetricFamily(
            "gleaner_shelf_age_seconds", "Since the version began to be served.", labels=["shelf"]
        )
        fitted = GaugeMetricFamily(
            "gleaner_model_age_seconds", "Since the model that scores was fitted.", labels=["shelf"]
        )
        try:
            with self.engine.begin() as connection:
                for each in shelves.page(connection, after=None, limit=MOST).items:
                    version = shelves.get(connection, each.serving)
                    since = shelves.history(connection, each.shelf).servings[0].at
                    served.add_metric([each.shelf], _seconds_since(since))
                    if (main := version.spec.main()) is not None:
                        fitted.add_metric([each.shelf], _seconds_since(models.get(connection, main).created_at))
        except SQLAlchemyError:
            log.warning("the ages of shelves could not be read")
            return
        yield served
        yield fitted


def _seconds_since(moment: datetime) -> float:
    return (datetime.now(UTC) - moment).total_seconds()
