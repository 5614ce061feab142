"""A program that is given the notice as JSON on its standard input."""

import subprocess
from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, ClassVar

import msgspec

from historon.estate import Channel, Duration, Estate, small_environment
from historon.notices.channels.interface import LONGEST_ANSWER, NoticeError, Sent, as_data
from historon.notices.rendering import visible

if TYPE_CHECKING:
    from historon.notices.letters import Letter

__all__ = ["CommandChannel", "send"]


class CommandChannel(Channel, frozen=True, kw_only=True):
    """A program that is given the notice as JSON on its standard input."""

    kind: ClassVar[str] = "command"

    command: tuple[str, ...]
    deadline: Duration = Duration(seconds=30)

    def __post_init__(self) -> None:
        """A program to run."""
        if not self.command:
            raise ValueError("runs no command (command is empty)")

    @property
    def goes_to(self) -> str:
        return " ".join(self.command)

    @property
    def takes(self) -> timedelta:
        return self.deadline


def send(channel: CommandChannel, letter: "Letter", estate: Estate, at: datetime, _remaining: Sequence[str]) -> Sent:
    """Give the notice to a program as JSON on its standard input."""
    name = channel.command[0]
    try:
        done = subprocess.run(
            channel.command,
            input=msgspec.json.encode(as_data(letter, estate, at)),
            cwd=estate.folder,
            capture_output=True,
            check=False,
            timeout=channel.deadline.total_seconds(),
            env=small_environment(),
        )
    except subprocess.TimeoutExpired as exc:
        raise NoticeError(
            f"command {name}: timed out after {channel.deadline}", hint="make it faster, or raise deadline"
        ) from exc
    except OSError as exc:
        raise NoticeError(
            f"command {name}: {exc.strerror}", hint="check that the program exists and is executable"
        ) from exc
    if done.returncode:
        said = visible(done.stderr.decode("utf-8", "replace").strip(), " ")[:LONGEST_ANSWER]
        raise NoticeError(f"command {name}: ended with exit code {done.returncode}: {said}", hint="run it by hand")
    said = visible(done.stdout.decode("utf-8", "replace").strip(), " ")[:LONGEST_ANSWER]
    conversation = [f"> {' '.join(channel.command)}", f"< exit code 0{': ' * bool(said)}{said}"]
    return Sent(f"sent, unconfirmed: {name} ended with exit code 0", conversation)
