"""Where people and programs are notified: a module for each kind of channel, behind `interface`.

A module of the name that `kind` has in the estate file has one function, `send`: it sends a letter, the same however
often it is tried. `remaining` are the recipients that are still to get it, all of them where it is empty. It raises
NoticeError when nobody got it.
"""

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from historon.estate import Channel, Estate, module_of
from historon.notices.channels.interface import NoticeError, Sent

if TYPE_CHECKING:
    from historon.notices.letters import Letter

__all__ = ["NoticeError", "Sent", "send_over"]


def send_over(channel: Channel, letter: "Letter", estate: Estate, at: datetime, remaining: Sequence[str] = ()) -> Sent:
    """Send a letter over a channel, whatever its kind."""
    sent: Sent = module_of(channel).send(channel, letter, estate, at, remaining)
    return sent
