"""What was lost when a store was made of a damaged copy: known until a person has accepted it."""

from collections.abc import Sequence

import msgspec

from historon.store.interface import Memory
from historon.store.records import ESTATE
from historon.store.verification import Damage

__all__ = ["accept_losses", "losses_of", "note_losses"]

_TOPIC = "lost with a copy"


def note_losses(store: Memory, lost: Sequence[Damage]) -> None:
    """Remember what a store lacks of the copy that it was made from."""
    if lost:
        told = [(one.source, one.number, one.part, one.problem) for one in lost]
        store.remember(ESTATE, _TOPIC, msgspec.json.encode(told).decode())


def losses_of(store: Memory) -> list[Damage]:
    """What the store lacks of the copy that it was made from, and nobody has accepted yet."""
    text = store.recall(ESTATE, _TOPIC)
    return [Damage(*one) for one in msgspec.json.decode(text)] if text else []


def accept_losses(store: Memory) -> None:
    """Let what was lost be known no more."""
    store.remember(ESTATE, _TOPIC, "")
