"""Telling people and programs how it went."""

from historon.notices.events import Event, Overdue, Severity
from historon.notices.letters import Letter, promise_letter, round_letter
from historon.notices.mail import send_mail
from historon.notices.programs import NoticeError
from historon.notices.telling import Told, tell_promises, tell_round, try_channel

__all__ = [
    "Event",
    "Letter",
    "NoticeError",
    "Overdue",
    "Severity",
    "Told",
    "promise_letter",
    "round_letter",
    "send_mail",
    "tell_promises",
    "tell_round",
    "try_channel",
]
