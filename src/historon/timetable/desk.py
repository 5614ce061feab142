"""What the duties of a service share: the estate that is in force, its store, the clock, and whom to tell."""

import logging
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime

from historon.base.errors import StoreError
from historon.estate import Estate
from historon.notices import DeliveryResult, Monitored, Notifier
from historon.store import Store
from historon.timetable.beside import Beside
from historon.timetable.health import HealthFigures
from historon.timetable.monitoring import Monitor

__all__ = ["LOG", "Desk", "log_unsent"]

LOG = logging.getLogger("historon.service")


@dataclass
class Desk:
    """`estate` changes when its file does.

    `troubled` says that something went wrong in a round, `unsent` that a notice could not be sent.
    """

    estate: Estate
    store: Store
    clock: Callable[[], datetime]
    open_store: Callable[[Estate], Store]
    notifier: Notifier
    monitor: Monitor
    figures: HealthFigures
    beside: Beside
    troubled: bool = False
    unsent: bool = False

    def watch(self, topic: str, look: Monitored) -> None:
        """Report one thing, if that is news; where the store cannot say what is, the log has it."""
        try:
            self.notifier.watch(topic, [look])
        except StoreError as exc:
            LOG.error("the store is in trouble: %s", exc)

    def note_sent(self, sent: DeliveryResult | None) -> None:
        """Log a notice that could not be sent, and know of it."""
        if sent is not None and sent.trouble:
            self.unsent = True
            log_unsent(sent)


def log_unsent(sent: DeliveryResult) -> None:
    """Log a notice if it could not be sent."""
    if sent.trouble:
        LOG.error("notice not sent to %s: %s", sent.channel, sent.trouble)
