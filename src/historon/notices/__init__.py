"""Telling people and programs: events, who wants to hear of them, and how they are told."""

from historon.notices.channels import NoticeError, Sent
from historon.notices.delivering import Delivery, Outgoing, Told, send, sign_of_life, try_channel
from historon.notices.events import Event, state_of
from historon.notices.letters import Letter, letter_of
from historon.notices.rendering import shipped_template
from historon.notices.telling import Teller, Watched

__all__ = [
    "Delivery",
    "Event",
    "Letter",
    "NoticeError",
    "Outgoing",
    "Sent",
    "Teller",
    "Told",
    "Watched",
    "letter_of",
    "send",
    "shipped_template",
    "sign_of_life",
    "state_of",
    "try_channel",
]
