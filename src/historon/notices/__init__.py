"""Notifying people and programs: events, who wants to hear of them, and how they are reported."""

from typing import TYPE_CHECKING

from historon.base.lazily import lazily

if TYPE_CHECKING:
    from historon.notices.about_copies import about_copy
    from historon.notices.channels import NoticeError, Sent
    from historon.notices.delivery import (
        Delivery,
        DeliveryResult,
        Outgoing,
        send,
        send_past_the_store,
        sign_of_life,
        try_channel,
    )
    from historon.notices.events import Event, state_of
    from historon.notices.letters import Letter, letter_of
    from historon.notices.notifier import Monitored, Notifier
    from historon.notices.rendering import shipped_template
    from historon.notices.routing import longest_wait

__all__ = [
    "Delivery",
    "DeliveryResult",
    "Event",
    "Letter",
    "Monitored",
    "NoticeError",
    "Notifier",
    "Outgoing",
    "Sent",
    "about_copy",
    "letter_of",
    "longest_wait",
    "send",
    "send_past_the_store",
    "shipped_template",
    "sign_of_life",
    "state_of",
    "try_channel",
]

__getattr__ = lazily(
    __name__,
    {
        "about_copies": ["about_copy"],
        "channels": ["NoticeError", "Sent"],
        "delivery": [
            "Delivery",
            "DeliveryResult",
            "Outgoing",
            "send",
            "send_past_the_store",
            "sign_of_life",
            "try_channel",
        ],
        "events": ["Event", "state_of"],
        "letters": ["Letter", "letter_of"],
        "notifier": ["Monitored", "Notifier"],
        "rendering": ["shipped_template"],
        "routing": ["longest_wait"],
    },
)
