"""The real servers and programs that tests talk to, where this machine has them: looked for by what they can do."""

import os
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

__all__ = ["PEERS", "needs", "peers_in_words", "program"]

_PLACES = "/usr/sbin:/usr/bin:/usr/local/sbin:/usr/local/bin:/sbin:/bin"


def program(name: str) -> str | None:
    """Where a program is, also one that only administrators have on their path."""
    return shutil.which(name) or shutil.which(name, path=_PLACES)


def _log_server_speaks_tls() -> bool:
    """A log server alone is the usual state of a fresh server; its TLS driver is a package of its own."""
    drivers = [one for folder in ("/usr/lib", "/usr/lib64") for one in Path(folder).glob("**/rsyslog/lmnsd_gtls.so")]
    return program("rsyslogd") is not None and bool(drivers)


def _pager_exits_at_the_end() -> bool:
    """util-linux's more, with the option by which it does not wait at the end (from 2.38 on)."""
    more = program("more")
    if more is None:
        return False
    done = subprocess.run([more, "-e", "/dev/null"], capture_output=True, check=False, stdin=subprocess.DEVNULL)
    return done.returncode == 0


_LOOKED_FOR: dict[str, Callable[[], bool]] = {
    "an OpenSSH server": lambda: program("sshd") is not None,
    "a web server": lambda: program("nginx") is not None,
    "a mail server, as root": lambda: program("dovecot") is not None and os.geteuid() == 0,
    "a log server": lambda: program("rsyslogd") is not None,
    "a log server with TLS": _log_server_speaks_tls,
    "a pager that wipes its question with blanks": lambda: _pager_exits_at_the_end(),
    "patch": lambda: program("patch") is not None,
}
PEERS = {name: there() for name, there in _LOOKED_FOR.items()}


def needs(name: str) -> pytest.MarkDecorator:
    """Skip the test, and say why, where this peer is missing."""
    return pytest.mark.skipif(not PEERS[name], reason=f"this machine does not have {name}")


def peers_in_words() -> str:
    """How many of the peers were there, and which were not."""
    missing = [name for name, there in PEERS.items() if not there]
    told = f"real peers: {len(PEERS) - len(missing)} of {len(PEERS)} were there"
    return f"{told}; not tested against: {', '.join(missing)}" if missing else told
