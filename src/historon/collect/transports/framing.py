"""How NETCONF messages are distinguished on a stream (RFC 6242 section 4), for devices and for those who ask them."""

import re
from abc import ABC, abstractmethod

__all__ = ["ChunkedFraming", "EndOfMessageFraming", "Framing", "FramingError"]

_END = b"]]>]]>"
_HEADER = re.compile(rb"\n#(?:([1-9]\d{0,9})|#)\n")
_BEGUN = re.compile(rb"(?:\n(?:#(?:#|[1-9]\d*)?)?)?")
_LONGEST_HEADER = 13
_LARGEST_CHUNK = 4294967295  # RFC 6242 section 4.2


class FramingError(ValueError):
    """What came is not framed as the RFC says."""


class Framing(ABC):
    """Takes bytes as they come, and gives whole messages."""

    def __init__(self) -> None:
        self.waiting = bytearray()

    @property
    def pending(self) -> int:
        """How many bytes came that are no whole message yet."""
        return len(self.waiting)

    def feed(self, data: bytes) -> None:
        """Take what came."""
        self.waiting += data

    @abstractmethod
    def next_message(self) -> bytes | None:
        """The next whole message, or None while there is none. FramingError when the frame is wrong."""

    @abstractmethod
    def framed(self, message: bytes) -> bytes:
        """A message as it is sent."""


class EndOfMessageFraming(Framing):
    """A mark behind each message (section 4.3), as in NETCONF 1.0 and in every hello."""

    def __init__(self) -> None:
        super().__init__()
        self._searched = 0

    def next_message(self) -> bytes | None:
        end = self.waiting.find(_END, max(0, self._searched - len(_END)))
        if end < 0:
            self._searched = len(self.waiting)
            return None
        message = bytes(self.waiting[:end])
        del self.waiting[: end + len(_END)]
        self._searched = 0
        return message.strip()

    def framed(self, message: bytes) -> bytes:
        return message + _END


class ChunkedFraming(Framing):
    """Chunks with their lengths before them (section 4.2)."""

    def __init__(self, waiting: bytes = b"") -> None:
        super().__init__()
        self.waiting += waiting
        self._message = bytearray()

    @property
    def pending(self) -> int:
        return len(self.waiting) + len(self._message)

    def next_message(self) -> bytes | None:
        while header := _HEADER.match(self.waiting):
            if header[1] is None:
                del self.waiting[: header.end()]
                message, self._message = bytes(self._message), bytearray()
                return message
            size = int(header[1])
            if size > _LARGEST_CHUNK:
                raise FramingError(f"a chunk of {size} bytes")
            if len(self.waiting) < header.end() + size:
                return None
            self._message += self.waiting[header.end() : header.end() + size]
            del self.waiting[: header.end() + size]
        begins = bytes(self.waiting[:_LONGEST_HEADER])
        if len(begins) >= _LONGEST_HEADER or not _BEGUN.fullmatch(begins):
            raise FramingError(f"no chunk begins with {begins!r}")
        return None

    def framed(self, message: bytes) -> bytes:
        return b"\n#%d\n%s\n##\n" % (len(message), message)
