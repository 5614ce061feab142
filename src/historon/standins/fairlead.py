"""A Fairlead load balancer: commands over SSH, one of which builds an archive that is then fetched over SFTP. Made up.

It takes `archive make FILE`, `archive remove FILE` and `connections list`; files lie below its folder.
"""

import gzip
import io
import tarfile
from collections.abc import Callable, Mapping
from enum import StrEnum
from functools import partial
from pathlib import Path
from typing import Any

import asyncssh

from historon.standins.device import SshDevice

__all__ = ["BalancerFault", "Fairlead"]


class BalancerFault(StrEnum):
    """What a balancer can be made to do wrong."""

    FULL = "has no room for the archive"
    KEEPS = "does not remove the archive"
    LIES = "says the archive is made, and makes none"


class Fairlead(SshDevice):
    """One balancer. `files` is asked for its configuration files each time an archive is made."""

    def __init__(
        self,
        name: str,
        folder: Path,
        files: Callable[[], Mapping[str, str]],
        *,
        authorized: asyncssh.SSHKey | None = None,
    ) -> None:
        super().__init__(name, authorized)
        self.fault: BalancerFault | None = None
        self.folder = folder
        self._files = files

    def _options(self) -> dict[str, Any]:
        (self.folder / "export").mkdir(parents=True, exist_ok=True)
        return {"sftp_factory": partial(asyncssh.SFTPServer, chroot=str(self.folder).encode())}

    async def _session(self, process: asyncssh.SSHServerProcess[bytes]) -> None:
        code, answer = self._execute((process.command or "").split())
        (process.stderr if code else process.stdout).write(answer.encode())
        process.exit(code)

    def _execute(self, words: list[str]) -> tuple[int, str]:
        match words:
            case ["archive", "make", name] if self.fault is BalancerFault.FULL:
                return 1, f"archive: no space left for {name}\n"
            case ["archive", "make", name]:
                if self.fault is not BalancerFault.LIES:
                    (self.folder / name.lstrip("/")).write_bytes(self._archive())
                return 0, f"made {name}\n"
            case ["archive", "remove", name] if self.fault is BalancerFault.KEEPS:
                return 1, f"archive: {name} is in use\n"
            case ["archive", "remove", name]:
                (self.folder / name.lstrip("/")).unlink(missing_ok=True)
                return 0, ""
            case ["connections", "list"]:
                return 0, "quay-app 10.20.4.20:443 2 members\noffice-app 10.20.4.21:443 1 member\n"
        return 127, f"no such command: {' '.join(words)}\n"

    def _archive(self) -> bytes:
        """The same bytes for the same files: no instants in it."""
        plain = io.BytesIO()
        with tarfile.open(fileobj=plain, mode="w") as archive:
            for name, text in sorted(self._files().items()):
                entry = tarfile.TarInfo(name)
                entry.size = len(text.encode())
                archive.addfile(entry, io.BytesIO(text.encode()))
        return gzip.compress(plain.getvalue(), mtime=0)
