"""Which process this is, and whether another one still runs: what it had begun, this one may have to end."""

import os
import socket
from pathlib import Path

__all__ = ["is_running", "process_in_words", "this_process"]


def this_process() -> str:
    """A name for this process that no other has, also not a later one with the same number: host, number, start."""
    return f"{socket.gethostname()} {os.getpid()} {_start_of(os.getpid())}"


def process_in_words(name: str) -> str:
    """A process in words: `host, process 41`."""
    host, _, rest = name.rpartition(" ")[0].rpartition(" ")
    return f"{host}, process {rest}" if host else name


def is_running(name: str) -> bool | None:
    """Whether the process of this name still runs; None when that cannot be known from here. No name is no process."""
    if not name:
        return False
    try:
        host, number, start = name.rsplit(" ", 2)
        process = int(number)
    except ValueError:
        return None
    if host != socket.gethostname():
        return None
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        pass  # it is there, and another user's
    return _start_of(process) == start or start == "?"


def _start_of(process: int) -> str:
    """When a process started, as proc(5) counts it; `?` where the system does not tell."""
    try:
        stat = Path(f"/proc/{process}/stat").read_text(encoding="utf-8", errors="replace")
    except OSError:
        return "?"
    return stat.rpartition(")")[2].split()[19]
