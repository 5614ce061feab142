"""Is this the device it says it is? Host keys against a pinned fingerprint or a known_hosts file."""

from collections.abc import Mapping, Sequence
from pathlib import Path

import asyncssh

from historon.base.errors import OutsideError
from historon.collect.failures import CollectError, FailureKind, OfferedKey
from historon.estate import write_private

__all__ = ["KeyCheck", "Known", "known_hosts", "remember_key"]

Known = asyncssh.SSHKnownHosts
_NOTHING_KNOWN: tuple[list[asyncssh.SSHKey], list[asyncssh.SSHKey], list[asyncssh.SSHKey]] = ([], [], [])


def known_hosts(file: Path) -> Known | None:
    """The file parsed once for a whole round (OpenSSH's format, sshd(8)); None when there is none yet."""
    try:
        return asyncssh.import_known_hosts(file.read_text(encoding="utf-8"))
    except FileNotFoundError:
        return None
    except (OSError, ValueError) as exc:
        raise OutsideError(f"{file}: {exc}", hint="it must be an OpenSSH known_hosts file") from exc


def remember_key(file: Path, offered: OfferedKey) -> None:
    """Append a key that a person has confirmed."""
    try:
        if not file.exists():
            write_private(file, b"")
        with file.open("a", encoding="utf-8") as out:
            out.write(offered.line + "\n")
    except OSError as exc:
        raise OutsideError(f"{file}: {exc.strerror or exc}", hint="check the file and its owner") from exc


class KeyCheck(asyncssh.SSHClient):
    """Asked by asyncssh about a host key that the known_hosts file does not vouch for."""

    def __init__(self, pinned: str | None, known: Known | None) -> None:
        self._pinned = pinned
        self._known = known
        self.shown_algorithm = ""
        self.verdict: CollectError | None = None

    @property
    def trusted(self) -> object:
        """What asyncssh may trust by itself; a pinned source trusts nothing but its pin."""
        return self._known if self._known is not None and not self._pinned else _NOTHING_KNOWN

    @property
    def pin_mismatch(self) -> bool:
        """Whether a key was shown that is not the pinned one."""
        return self._pinned is not None and self.verdict is not None

    def preferred(self, families: Mapping[str, Sequence[str]], host: str, port: int) -> list[str]:
        """The families of host keys, those first of which a key of this host is known."""
        known = asyncssh.match_known_hosts(self._known, host, "", port)[0] if self._known else ()
        names = {key.get_algorithm() for key in known}
        if any("rsa" in name for name in names):
            names.add("rsa-sha2-512")
        return sorted(families, key=lambda family: not names & set(families[family]))

    def validate_host_public_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
        """Whether the key is the pinned one; otherwise `verdict` says what is wrong with it."""
        algorithm, fingerprint = key.get_algorithm(), key.get_fingerprint()
        pinned = self._pinned
        self.shown_algorithm = algorithm
        if pinned and pinned.rstrip("=") == fingerprint:
            self.verdict = None
            return True
        if self.verdict is not None and pinned:
            return False  # what was shown first is what is reported
        if pinned or self._is_known(host, addr, port):
            wanted = f"pinned is {pinned}" if pinned else "known_hosts has another"
            self.verdict = CollectError(
                FailureKind.IDENTITY_CHANGED,
                f"THE HOST KEY HAS CHANGED: {host} shows {algorithm} {fingerprint}, {wanted}",
                hint=(
                    "was it replaced or reset? If the change is unexplained, the connection may be "
                    "intercepted. Nothing was sent."
                ),
            )
        else:
            self.verdict = CollectError(
                FailureKind.IDENTITY,
                f"first contact: {host} shows {algorithm} {fingerprint}, which is not confirmed yet",
                offered=OfferedKey(algorithm, fingerprint, _line(host, port, key)),
            )
        return False

    def _is_known(self, host: str, addr: str, port: int) -> bool:
        return self._known is not None and any(asyncssh.match_known_hosts(self._known, host, addr, port)[:3])


def _line(host: str, port: int, key: asyncssh.SSHKey) -> str:
    name = host if port == 22 else f"[{host}]:{port}"
    algorithm, encoded = key.export_public_key("openssh").decode().split()[:2]
    return f"{name} {algorithm} {encoded}"
