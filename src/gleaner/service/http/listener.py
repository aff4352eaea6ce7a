"""Hears from the database what other processes did."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Mapping

import psycopg

LOOK_S = 0.5
RETRY_S = 1.0
REGULARLY_S = 15.0
log = logging.getLogger("gleaner.service")


class Listener:
    """A thread with one listening connection, made again whenever it breaks. hears: what to do with the news of each
    channel; what takes long has a listener of its own. on_start: done once, when it listens; on_return: whenever it
    listens again; regularly: done then, and every so many seconds, to catch up where a notice was lost."""

    def __init__(
        self,
        url: str,
        hears: Mapping[str, Callable[[str], object]],
        on_return: Callable[[], None],
        on_start: Callable[[], None] = lambda: None,
        regularly: Callable[[], None] = lambda: None,
    ) -> None:
        self.url, self.hears, self.on_return, self.on_start = url, hears, on_return, on_start
        self.regularly = regularly
        self._ending = threading.Event()
        self._thread = threading.Thread(target=self._listen, name="listener", daemon=True)

    def start(self) -> None:
        """Begin to listen."""
        self._thread.start()

    def stop(self) -> None:
        """End."""
        self._ending.set()
        self._thread.join(timeout=5)

    def _listen(self) -> None:
        first = True
        while not self._ending.is_set():
            try:
                with psycopg.connect(self.url, autocommit=True) as connection:
                    for channel in self.hears:
                        connection.execute(f"LISTEN {channel}")
                    self._safely(self.on_start if first else self.on_return)
                    first, looked = False, -REGULARLY_S
                    while not self._ending.is_set():
                        if time.monotonic() - looked >= REGULARLY_S:
                            looked = time.monotonic()
                            self._safely(self.regularly)
                        for notice in connection.notifies(timeout=LOOK_S):
                            self._tell(notice)
            except psycopg.OperationalError as error:
                log.warning("the listening connection broke: %s", str(error).strip())
                self._ending.wait(RETRY_S)

    def _safely(self, what: Callable[[], None]) -> None:
        try:
            what()
        except psycopg.OperationalError:
            raise
        except Exception:
            log.exception("could not look up what may have been missed")

    def _tell(self, notice: psycopg.Notify) -> None:
        try:
            self.hears[notice.channel](notice.payload)
        except Exception:
            # a shelf that cannot be loaded leaves the one before in place
            log.exception("could not act on %s %s", notice.channel, notice.payload)
