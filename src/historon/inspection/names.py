"""What a device calls itself in its configuration: another name than always is another device's export."""

from collections.abc import Sequence

from historon.estate import Expression

__all__ = ["another_name"]

_READ = 2**20  # bytes
_NAMED = Expression(
    rb"(?im)^[^\w\n]*(?:set |system |add )*(?:host-?name|sys-?name|system-name)(?:[\"'>]|[ \t=:])+[\"']?"
    rb"([A-Za-z0-9][\w.-]{1,63})"
)


def another_name(now: bytes, before: Sequence[bytes]) -> str:
    """That a text names another device than the last good ones did; empty where it names the same, or none, or many."""
    was = {_own_name(text) for text in before}
    is_now = _own_name(now)
    if not is_now or len(was) != 1:
        return ""
    (name,) = was
    return f"says it is {is_now}, and was {name}" if name and name != is_now else ""


def _own_name(text: bytes) -> str:
    """The name in a text that has one such line; a list of hosts has many."""
    found = [match[1] for match in _NAMED.finditer(text[:_READ])]
    return found[0].decode() if len(found) == 1 else ""
