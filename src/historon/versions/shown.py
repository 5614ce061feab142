"""The lines of a text fit for eyes: secrets are hidden around the lines that are looked at, not in all of a long text.

What stands far from a line has no say in whether it holds a secret, unless a secret may go on over several lines: then
the whole text is hidden at once.
"""

from collections.abc import Callable, Iterator, Sequence
from typing import overload

from historon.versions.contents import split_lines
from historon.versions.secrets import keeps_to_lines

__all__ = ["ShownLines"]

_BLOCK = 8  # lines that are hidden together
_MOST_BLOCKS = 60  # after which all the others are hidden at once
_FEW_LINES = 200  # that are hidden at once anyway


class ShownLines(Sequence[bytes]):
    """The lines of `content`, as many as it has, each as `hide` leaves it in the whole text."""

    def __init__(
        self,
        content: bytes,
        hide: Callable[[bytes], bytes],
        lines: Sequence[bytes] | None = None,
        *,
        reach: int = 0,
    ) -> None:
        """`reach` is how many bytes before and behind a line have a say in it, where a text keeps to lines; 0, all."""
        self._content = content
        self._hide = hide
        self.bare = split_lines(content) if lines is None else lines
        self._blocks: dict[int, list[bytes]] = {}
        self._whole: list[bytes] | None = None
        self._reach = reach
        self._by_line = reach > 0 and len(self.bare) > _FEW_LINES and keeps_to_lines(content)

    def __len__(self) -> int:
        return len(self.bare)

    def __iter__(self) -> Iterator[bytes]:
        return iter(self._all())

    @overload
    def __getitem__(self, at: int) -> bytes: ...

    @overload
    def __getitem__(self, at: slice) -> list[bytes]: ...

    def __getitem__(self, at: int | slice) -> bytes | list[bytes]:
        if self._whole is not None:
            return self._whole[at]
        if isinstance(at, slice):
            return [self._line(one) for one in range(*at.indices(len(self.bare)))]
        return self._line(range(len(self.bare))[at])

    def _line(self, at: int) -> bytes:
        if self._whole is None and not self._by_line:
            self._whole = self._all()
        if self._whole is not None:
            return self._whole[at]
        block, place = divmod(at, _BLOCK)
        if block not in self._blocks:
            if len(self._blocks) == _MOST_BLOCKS:
                return self._all()[at]
            self._blocks[block] = self._hidden(block * _BLOCK, min(len(self.bare), (block + 1) * _BLOCK))
        return self._blocks[block][place]

    def _all(self) -> list[bytes]:
        if self._whole is None:
            self._whole = split_lines(self._hide(self._content))
        return self._whole

    def _hidden(self, start: int, end: int) -> list[bytes]:
        """Some lines, hidden together with those before and behind them that may have a say in it."""
        first, last = start, end
        before = behind = 0
        while first and before < self._reach:
            first -= 1
            before += len(self.bare[first])
        while last < len(self.bare) and behind < self._reach:
            behind += len(self.bare[last])
            last += 1
        shown = split_lines(self._hide(b"".join(self.bare[first:last])))
        return shown[start - first : end - first]
