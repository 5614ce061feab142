"""Waiting for what another process does: bounded, reported when it never comes, and without keeping a core busy."""

import socket
import subprocess
import threading
import time
from collections.abc import Callable
from typing import Any, TypeVar

__all__ = ["free_port", "is_listening", "wait_for"]

T = TypeVar("T")


def wait_for(done: Callable[[], T], what: str = "it never came so far", *, seconds: float = 60) -> T:
    """Wait until this is so, and return what made it so; otherwise the test fails with these words."""
    deadline = time.monotonic() + seconds
    pause = threading.Event()
    while not (found := done()):
        assert time.monotonic() < deadline, what
        pause.wait(0.01)
    return found


def free_port(kind: int = socket.SOCK_STREAM) -> int:
    """A port of this machine that nobody listens on."""
    with socket.socket(socket.AF_INET, kind) as taken:
        taken.bind(("127.0.0.1", 0))
        return int(taken.getsockname()[1])


def is_listening(port: int, server: "subprocess.Popen[Any]", greeting: bytes = b"") -> bool:
    """Tell whether a server on this machine takes connections (and greets so); the test fails when it has ended."""
    try:
        with socket.create_connection(("127.0.0.1", port), 1) as connection:
            return not greeting or connection.recv(len(greeting)) == greeting
    except OSError:
        assert server.poll() is None, f"{server.args!r} ended with {server.returncode}"
        return False
