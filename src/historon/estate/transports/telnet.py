"""A shell over Telnet."""

from collections.abc import Mapping
from typing import ClassVar

from historon.estate.patterns import QuickPattern
from historon.estate.transports.terminal import Terminal

__all__ = ["Telnet"]


class Telnet(Terminal, frozen=True, kw_only=True):
    """`over = "telnet"`: a shell in the clear (RFC 854), which asks for name and password itself."""

    over: ClassVar[str] = "telnet"
    module: ClassVar[str] = "telnet"
    port: ClassVar[int] = 23
    concerns: ClassVar[Mapping[str, str]] = {
        "Telnet sends the password in the clear": (
            "use ssh-shell as soon as the device can; until then keep it in a network of its own"
        )
    }

    login_prompt: QuickPattern = QuickPattern.parse(r"(?i)(?:login|username|user)\s*: *$")
    password_prompt: QuickPattern = QuickPattern.parse(r"(?i)password\s*: *$")
