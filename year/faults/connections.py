"""Devices that cannot be asked, or that break off, and services that do not come back."""

from collections.abc import Callable
from random import Random

from year.devices import ANOTHER_KEY, CLOSED, REFUSES, SILENT
from year.faults import Spoiled
from year.sources import Offer, Source
from year.truth import BAD

__all__ = ["FAULTS"]

_FAILED = frozenset({"failed"})
_GOOD = frozenset[str]()  # as if nothing were wrong


def _over(*transports: str) -> Callable[[Source], bool]:
    return lambda source: source.post.transport in transports


def _behaving(mode: str) -> Callable[[Offer, Source, Random], Offer]:
    return lambda offer, _source, _rng: Offer(offer.parts, mode)


_DEVICES = _over("ssh-shell", "telnet", "ssh-exec", "https", "netconf")
_SHELLS = _over("ssh-shell", "telnet")

FAULTS = (
    Spoiled("the port is closed", _DEVICES, _behaving(CLOSED), _FAILED, (1, 4)),
    Spoiled("no answer", _DEVICES, _behaving(SILENT), _FAILED),
    Spoiled("the account is refused", _DEVICES, _behaving(REFUSES), _FAILED, (1, 3)),
    Spoiled(
        "another host key",
        _over("ssh-shell", "ssh-exec", "netconf"),
        _behaving(ANOTHER_KEY),
        _FAILED,
        event="identity-changed",
    ),
    Spoiled("another certificate", _over("https"), _behaving(ANOTHER_KEY), _FAILED, event="identity-changed"),
    Spoiled("mute after log-in", _SHELLS, _behaving("MUTE"), _FAILED),
    Spoiled("answers without end", _SHELLS, _behaving("ENDLESS"), _FAILED),
    Spoiled("hangs up in the middle", _SHELLS, _behaving("CLOSES"), _FAILED),
    Spoiled("half, and then a prompt", _SHELLS, _behaving("HALF"), BAD),
    Spoiled("does not know the command", _SHELLS, _behaving("REFUSES"), BAD),
    Spoiled("slow, but whole", _SHELLS, _behaving("SLOW"), _GOOD),
    Spoiled("a server error", _over("https"), _behaving("BROKEN"), _FAILED),
    Spoiled("a server that is busy", _over("https"), _behaving("BUSY"), _FAILED),
    Spoiled("a log-in page with status 200", _over("https"), _behaving("LOGIN"), BAD),
    Spoiled("an error with status 200", _over("https"), _behaving("ERROR"), BAD),
    Spoiled("a body cut off", _over("https"), _behaving("CUTS"), _FAILED),
    Spoiled("a request without an answer", _over("https"), _behaving("MUTE"), _FAILED),
    Spoiled("may not read its configuration", _over("netconf"), _behaving("DENIES"), _FAILED),
    Spoiled("half a message", _over("netconf"), _behaving("HALF"), _FAILED),
    Spoiled("no answer to a request", _over("netconf"), _behaving("HANGS"), _FAILED),
    Spoiled("broken framing", _over("netconf"), _behaving("GARBLES"), _FAILED),
    Spoiled("a service that cannot be paused", _over("paused"), _behaving("cannot-pause"), _FAILED),
    Spoiled(
        "a service that does not resume", _over("paused"), _behaving("cannot-resume"), _FAILED, (1, 2), "not-resumed"
    ),
)
