"""Which events go to which channel, and when."""

from datetime import datetime, timedelta

from historon.estate import Channel, Estate, Severity, after_hours, instants
from historon.notices.events import Event

__all__ = ["AT_THE_LATEST", "due_at", "wants", "when_awake"]

AT_THE_LATEST = timedelta(hours=6)  # what came up in a round that never ends is told after this


def wants(channel: Channel, event: Event, estate: Estate) -> bool:
    """Whether the channel is to be told of the event."""
    if not channel.hears(event.kind):
        return False
    if channel.where:
        source = estate.sources.get(event.source or "")
        if source is None or not source.has_labels(channel.where):
            return False
    at = event.at.astimezone(estate.zone).time()
    return not channel.hours or any(hours.hold(at) for hours in channel.hours)


def due_at(channel: Channel, event: Event, estate: Estate, now: datetime, *, in_round: bool) -> tuple[datetime, bool]:
    """When the channel is told of it, and whether it waits for the end of the round. What is critical never waits."""
    if event.severity is Severity.CRITICAL:
        return now, False
    if channel.digest is not None:
        coming = next(instants(estate.timetables[channel.digest], estate.zone, now))
        return when_awake(channel, estate, coming), False
    if in_round and not channel.immediately:
        return now + AT_THE_LATEST, True
    return when_awake(channel, estate, now), False


def when_awake(channel: Channel, estate: Estate, at: datetime) -> datetime:
    """The instant itself, or the end of the channel's quiet hours."""
    return after_hours(at, channel.quiet, estate.zone)
