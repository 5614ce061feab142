"""Telling people how it went."""

from historon.notices.letters import Letter, Overdue, promise_letter, round_letter
from historon.notices.mail import NoticeError, send_mail
from historon.notices.telling import Told, tell_promises, tell_round

__all__ = [
    "Letter",
    "NoticeError",
    "Overdue",
    "Told",
    "promise_letter",
    "round_letter",
    "send_mail",
    "tell_promises",
    "tell_round",
]
