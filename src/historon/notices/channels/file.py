"""A file that gets each notice as one line of JSON."""

import os
from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING, ClassVar

import msgspec

from historon.estate import Channel, Estate
from historon.notices.channels.interface import NoticeError, Sent, as_data

if TYPE_CHECKING:
    from historon.notices.letters import Letter

__all__ = ["FileChannel", "send"]


class FileChannel(Channel, frozen=True, kw_only=True):
    """A file that gets one JSON object a line for each notice."""

    kind: ClassVar[str] = "file"

    path: str

    @property
    def goes_to(self) -> str:
        return self.path

    @property
    def writes_to(self) -> str | None:
        return self.path


def send(channel: FileChannel, letter: "Letter", estate: Estate, at: datetime, _remaining: Sequence[str]) -> Sent:
    """Append the notice to a file as one line of JSON."""
    path = estate.path(channel.path)
    try:
        with os.fdopen(os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600), "ab") as file:
            file.write(msgspec.json.encode(as_data(letter, estate, at)) + b"\n")
    except OSError as exc:
        raise NoticeError(f"file {path}: {exc.strerror}", hint="check that its folder exists and is writable") from exc
    return Sent(f"written to {path}")
