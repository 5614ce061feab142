"""Which section of a configuration a line belongs to, told by its indentation."""

from collections.abc import Sequence

__all__ = ["heading"]

_FAR = 5000  # lines that are looked back over


def heading(lines: Sequence[bytes], at: int) -> bytes:
    """The nearest line above that is indented less, such as `interface port-3`; empty at the outermost level."""
    at = min(at, len(lines) - 1)
    while at > 0 and not lines[at].strip():
        at -= 1
    if at < 0 or not (depth := _depth(lines[at])):
        return b""
    for line in reversed(lines[max(0, at - _FAR) : at]):
        if line.strip(b" \t\r\n!#") and _depth(line) < depth:
            return line.strip()
    return b""


def _depth(line: bytes) -> int:
    expanded = line.expandtabs(8)
    return len(expanded) - len(expanded.lstrip(b" "))
