"""The files that an estate is described by, as they travel with a copy; never those that hold secrets."""

import hashlib
from collections.abc import Iterator, Mapping
from pathlib import Path

from historon.estate.layout import ESTATE_FILE
from historon.estate.model import Estate
from historon.estate.secrets import SecretError, SecretRef

__all__ = ["missing_secrets", "settings_digest", "settings_files"]


def settings_files(estate: Estate) -> Mapping[str, bytes]:
    """The contents of those in the estate's folder, by their names in it. OSError when one cannot be read."""
    found = {ESTATE_FILE: estate.file.read_bytes()}
    for path in _paths(estate):
        if path.is_file() and path.is_relative_to(estate.folder):
            name = path.relative_to(estate.folder)
            if ".." not in name.parts:
                found[name.as_posix()] = path.read_bytes()
    return found


def settings_digest(files: Mapping[str, bytes]) -> str:
    """A digest by which the files are the same or not."""
    digest = hashlib.sha256()
    for name, content in sorted(files.items()):
        digest.update(f"{hashlib.sha256(content).hexdigest()}  {name}\n".encode())
    return digest.hexdigest()


def _paths(estate: Estate) -> Iterator[Path]:
    settings = estate.settings
    written = [settings.sources_from, settings.known_hosts]
    for channel in estate.channels.values():
        written += channel.reads.values()
    for copy in estate.copies.values():
        written += copy.reads.values()
    written += [source.authority for source in estate.sources.values()]
    written += [account.certificate for account in estate.credentials.values()]
    yield from (estate.path(one) for one in written if one)
    if settings.procedures_from:
        yield from sorted(estate.path(settings.procedures_from).glob("*.toml"))


def missing_secrets(estate: Estate) -> list[SecretRef]:
    """The references behind which nothing is known to be, each once, in the order of the estate file.

    No program is run to find that out: the estate file may be a stranger's (see docs/lost-machine.md).
    """
    references: list[SecretRef | None] = [estate.settings.store_password, estate.settings.heartbeat]
    for account in estate.credentials.values():
        references += [account.password, account.key, account.passphrase, account.elevation]
    for channel in estate.channels.values():
        references += channel.secrets
    return [one for one in dict.fromkeys(references) if one is not None and not _is_there(one, estate.folder)]


def _is_there(reference: SecretRef, folder: Path) -> bool:
    if reference.kind == "command":
        return False
    try:
        reference.resolve(folder)
    except SecretError:
        return False
    return True
