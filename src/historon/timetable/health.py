"""How the service is, for programs of this machine: health as JSON, and figures in the OpenMetrics text format 1.0."""

import threading
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from socketserver import TCPServer, ThreadingMixIn
from typing import TYPE_CHECKING, Any
from wsgiref.simple_server import WSGIRequestHandler, WSGIServer, make_server

import msgspec

from historon.base.errors import OutsideError
from historon.estate import EVENT_KINDS
from historon.store import Outcome
from historon.timetable.freshness import Freshness

if TYPE_CHECKING:
    from prometheus_client import Metric

    from historon.timetable.conditions import OpenCondition

__all__ = ["HealthFigures", "HealthServer"]

_STALLED = timedelta(minutes=2)
_LATE = timedelta(seconds=5)
_LOOPBACK = "127.0.0.1"
_NAMES = (_LOOPBACK, "localhost")
_CONNECTIONS = 32  # at once
_NAMED = 20  # late sources

StartResponse = Callable[[str, list[tuple[str, str]]], object]


@dataclass
class HealthFigures:
    """What the service says of itself. It replaces values as a whole, so that another thread may read them.

    `seen` is when it last looked around, `confirmed` when each source's last good version was last found to be so, and
    `waiting` counts the notices and events that wait on each channel; instants are in UTC. `late` is by how much its
    event loop was late recently, `begun_late` by how much each source began after it was due, `awaited` since when
    others are due and have not begun, `conditions` are all that is open, `blocked` why the last round could not begin,
    and `workers_lost` how many processes that looked at exports had to be ended.
    """

    seen: datetime | None = None
    trouble: str = ""
    ages: dict[Freshness, int] = field(default_factory=dict)
    confirmed: dict[str, datetime] = field(default_factory=dict)
    next_due: datetime | None = None
    waiting: dict[str, int] = field(default_factory=dict)
    store_bytes: int = 0
    rounds: int = 0
    outcomes: Counter[Outcome] = field(default_factory=Counter)
    last_round: datetime | None = None
    late: timedelta = timedelta()
    blocked: str = ""
    workers_lost: int = 0
    conditions: "Sequence[OpenCondition]" = ()
    begun_late: dict[str, timedelta] = field(default_factory=dict)
    awaited: dict[str, datetime] = field(default_factory=dict)

    def late_sources(self, now: datetime) -> dict[str, timedelta]:
        """By how much each source began after it was due the last time, or is waiting for its turn now."""
        waiting = {name: now - due for name, due in self.awaited.items() if due < now}
        return {**self.begun_late, **waiting}

    def state(self, now: datetime) -> str:
        """`well`, or what is wrong with the service itself."""
        if self.trouble:
            return f"store trouble: {self.trouble}"
        if self.seen is None:
            return "starting"
        if now - self.seen > _STALLED:
            return "stalled"
        if self.blocked:
            return f"no round could begin: {self.blocked}"
        return f"late by {self.late.total_seconds():.1f} s" if self.late > _LATE else "well"


class HealthServer:
    """Answers `/health` and `/metrics` on loopback, in a thread of its own."""

    def __init__(self, figures: HealthFigures, clock: Callable[[], datetime], port: int) -> None:
        """Begin to listen; OutsideError when that port is taken."""
        self._figures = figures
        self._clock = clock
        try:
            self._server = make_server(_LOOPBACK, port, self._answer, _Server, _Quiet)
        except OSError as exc:
            raise OutsideError(
                f"cannot listen on {_LOOPBACK} port {port}: {exc.strerror}", hint="choose another port"
            ) from exc
        self._thread = threading.Thread(target=self._server.serve_forever, daemon=True)

    @property
    def port(self) -> int:
        """Where it listens."""
        return self._server.server_port

    def __enter__(self) -> "HealthServer":
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._server.shutdown()
        self._thread.join()
        self._server.server_close()

    def _answer(self, environ: dict[str, Any], start: StartResponse) -> Iterable[bytes]:
        path = environ.get("PATH_INFO")
        # A page of anywhere may have a name of its own lead here, and read what this says (RFC 9110, 7.4).
        if environ.get("HTTP_HOST", _LOOPBACK).partition(":")[0] not in _NAMES:
            start("421 Misdirected Request", [("Content-Type", "text/plain")])
            return [b"ask for 127.0.0.1 or localhost\n"]
        if environ.get("REQUEST_METHOD") != "GET":
            start("405 Method Not Allowed", [("Allow", "GET")])
            return []
        if path == "/health":
            return self._health(start)
        if path == "/metrics":
            return self._metrics(start)
        start("404 Not Found", [("Content-Type", "text/plain")])
        return [b"/health or /metrics\n"]

    def _health(self, start: StartResponse) -> Iterable[bytes]:
        now = self._clock()
        state = self._figures.state(now)
        start("200 OK" if state == "well" else "503 Service Unavailable", [("Content-Type", "application/json")])
        data = {
            "state": state,
            "seen": self._figures.seen,
            "next_due": self._figures.next_due,
            "last_round": self._figures.last_round,
            "ages": self._figures.ages,
            "notices_waiting": sum(self._figures.waiting.values()),
            "late_s": self._figures.late.total_seconds(),
            "workers_lost": self._figures.workers_lost,
            "conditions": [
                {"kind": one.kind, "subject": one.subject, "words": one.words, "since": one.since}
                for one in self._figures.conditions
            ],
            "late_sources": self._late_sources(now),
        }
        return [msgspec.json.encode(data) + b"\n"]

    def _late_sources(self, now: datetime) -> dict[str, float]:
        """Those that began, or wait, more than a few seconds after they were due, the latest first."""
        late = [(span, name) for name, span in self._figures.late_sources(now).items() if span > _LATE]
        return {name: span.total_seconds() for span, name in sorted(late, reverse=True)[:_NAMED]}

    def _metrics(self, start: StartResponse) -> Iterable[bytes]:
        from prometheus_client import CollectorRegistry  # imported where it is used: it takes a sixth of a second
        from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest

        registry = CollectorRegistry()
        registry.register(_Figures(self._figures, self._clock()))
        start("200 OK", [("Content-Type", CONTENT_TYPE_LATEST)])
        return [generate_latest(registry)]  # type: ignore[no-untyped-call]


class _Figures:
    """The figures as families of metrics; times in seconds, sizes in bytes, instants in seconds since 1970 UTC."""

    def __init__(self, figures: HealthFigures, now: datetime) -> None:
        self._figures = figures
        self._now = now

    def collect(self) -> "Iterator[Metric]":
        """See the library."""
        from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily

        def gauge(name: str, help_: str, values: Iterable[tuple[str, float]], label: str = "") -> GaugeMetricFamily:
            family = GaugeMetricFamily(f"historon_{name}", help_, labels=[label] if label else [])
            for key, value in values:
                family.add_metric([key] if label else [], value)
            return family

        figures = self._figures
        yield gauge("well", "1 while the service itself is well.", [("", figures.state(self._now) == "well")])
        counts = [(age.value, float(figures.ages.get(age, 0))) for age in Freshness]
        yield gauge("sources", "Sources by the age of their last good version against max_age.", counts, "age")
        confirmed = [(name, at.timestamp()) for name, at in figures.confirmed.items()]
        about = "When the last good version of a source was last confirmed."
        yield gauge("source_confirmed_timestamp_seconds", about, confirmed, "source")
        late = [(name, span.total_seconds()) for name, span in figures.late_sources(self._now).items()]
        yield gauge("source_late_seconds", "How long after it was due a source began, or waits.", late, "source")
        kinds = Counter(one.kind for one in figures.conditions)
        is_open = [(kind, float(kinds[kind])) for kind, told in EVENT_KINDS.items() if told.is_trouble]
        yield gauge("open_conditions", "What needs attention, as historon status lists it.", is_open, "kind")
        waiting = [(channel, float(number)) for channel, number in figures.waiting.items()]
        yield gauge("notices_waiting", "Notices and events that are waiting to be sent.", waiting, "channel")
        yield gauge("store_bytes", "Size of the store on disk.", [("", figures.store_bytes)])
        for name, help_, at in (
            ("next_due", "When the next source is due.", figures.next_due),
            ("last_round", "When the last round ended.", figures.last_round),
        ):
            if at is not None:
                yield gauge(f"{name}_timestamp_seconds", help_, [("", at.timestamp())])
        yield gauge("late_seconds", "Longest recent delay of the event loop.", [("", figures.late.total_seconds())])
        lost = "Processes that inspected exports and had to be ended, since the service began."
        yield CounterMetricFamily("historon_workers_lost", lost, value=figures.workers_lost)
        yield CounterMetricFamily("historon_rounds", "Rounds since the service began.", value=figures.rounds)
        outcomes = CounterMetricFamily("historon_outcomes", "Outcomes since the service began.", labels=["outcome"])
        for outcome in Outcome:
            outcomes.add_metric([outcome.value], figures.outcomes[outcome])
        yield outcomes


class _Server(ThreadingMixIn, WSGIServer):
    """A thread a connection, and no more than some: those beyond are closed, and one that says nothing is, too.

    It looks no host names up: that could wait for a name server.
    """

    daemon_threads = True

    def __init__(self, *given: Any) -> None:
        self._free = threading.BoundedSemaphore(_CONNECTIONS)
        super().__init__(*given)

    def process_request(self, request: Any, client_address: Any) -> None:
        """See the library."""
        if self._free.acquire(blocking=False):
            super().process_request(request, client_address)
        else:
            self.shutdown_request(request)

    def process_request_thread(self, request: Any, client_address: Any) -> None:
        """See the library."""
        try:
            super().process_request_thread(request, client_address)
        finally:
            self._free.release()

    def handle_error(self, request: Any, client_address: Any) -> None:
        """Whoever asks half a question, or hangs up, is nothing to be logged."""

    def server_bind(self) -> None:
        """See the library."""
        TCPServer.server_bind(self)
        self.server_name, self.server_port = _LOOPBACK, int(self.server_address[1])
        self.setup_environ()


class _Quiet(WSGIRequestHandler):
    """Requests are not logged: monitoring asks every few seconds."""

    timeout = 3

    def log_message(self, format: str, *args: object) -> None:  # noqa: A002 (so it is called there)
        """See the library."""
