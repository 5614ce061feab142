"""Telling people how it went."""

from historon.notices.letters import Letter, round_letter
from historon.notices.mail import NoticeError, send_mail
from historon.notices.telling import Told, tell_round

__all__ = ["Letter", "NoticeError", "Told", "round_letter", "send_mail", "tell_round"]
