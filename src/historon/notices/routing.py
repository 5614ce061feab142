"""Which events go to which channel, and when."""

from datetime import UTC, datetime, timedelta

from historon.estate import EVENT_KINDS, Channel, Estate, Severity, after_hours, in_hours, instants
from historon.notices.events import Event

__all__ = ["AT_THE_LATEST", "due_at", "longest_wait", "wants", "when_awake"]

AT_THE_LATEST = timedelta(hours=6)  # what came up in a round that never ends is reported after this


def wants(channel: Channel, event: Event, estate: Estate) -> bool:
    """Whether the channel is to be notified of the event."""
    if not channel.hears(event.kind):
        return False
    if channel.where:
        source = estate.sources.get(event.source or "")
        if source is None or not source.has_labels(channel.where):
            return False
    kind = EVENT_KINDS[event.kind]
    if kind.is_trouble or kind.ends:
        return True  # it waits for the hours
    at = event.at.astimezone(estate.zone).time()
    return not channel.hours or any(hours.hold(at) for hours in channel.hours)


def due_at(channel: Channel, event: Event, estate: Estate, now: datetime, *, in_round: bool) -> tuple[datetime, bool]:
    """When the channel is notified of it, and whether it waits for the end of the round.

    What is critical waits for nothing but the channel's `hours`.
    """
    if event.severity is Severity.CRITICAL:
        return in_hours(now, channel.hours, estate.zone), False
    if channel.digest is not None:
        coming = next(instants(estate.timetables[channel.digest], estate.zone, now))
        return when_awake(channel, estate, coming), False
    if in_round and not channel.immediately:
        return when_awake(channel, estate, now + AT_THE_LATEST), True
    return when_awake(channel, estate, now), False


def when_awake(channel: Channel, estate: Estate, at: datetime) -> datetime:
    """The instant itself, or the next one in the channel's hours and outside its quiet ones."""
    awake = after_hours(in_hours(at, channel.hours, estate.zone), channel.quiet, estate.zone)
    return in_hours(awake, channel.hours, estate.zone)


def longest_wait(channel: Channel, estate: Estate) -> timedelta:
    """The longest time that a source's failure waits before this channel sends it, within the next five weeks."""
    begin = datetime.now(UTC).replace(minute=0, second=0, microsecond=0)
    waits = []
    for hours in range(24 * 35):
        at = begin + timedelta(hours=hours)
        due, _ = due_at(channel, Event("failing", at, ""), estate, at, in_round=False)
        waits.append(due - at)
    return max(waits)
