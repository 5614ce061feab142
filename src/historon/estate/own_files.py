"""The files that an estate is described by, as they travel with a copy; never those that hold secrets."""

import hashlib
from collections.abc import Iterator, Mapping
from contextlib import suppress
from pathlib import Path

from historon.estate.layout import ESTATE_FILE
from historon.estate.model import Estate
from historon.estate.secrets import SecretError, SecretRef, is_reference
from historon.estate.steps import WITH_CLAUSES, Pull, walk
from historon.estate.values import fill, values_of

__all__ = [
    "ENVIRONMENT_FILE",
    "environment_secrets",
    "missing_secrets",
    "settings_digest",
    "settings_files",
    "temporary_places",
    "written_places",
]

ENVIRONMENT_FILE = "historon.env"  # beside the estate file: variables of the service, `NAME=value` (systemd.exec(5))
_TEMPORARY = (Path("/tmp"), Path("/var/tmp"))  # noqa: S108 (looked for, not used)


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
    return [one for one in _references(estate) if not _is_there(one, estate.folder)]


def _references(estate: Estate) -> list[SecretRef]:
    """All references to secrets of accounts and channels, each once."""
    references: list[SecretRef | None] = [estate.settings.store_password, estate.settings.heartbeat]
    for account in estate.credentials.values():
        references += [account.password, account.key, account.passphrase, account.elevation]
    for channel in estate.channels.values():
        references += channel.secrets
    return [one for one in dict.fromkeys(references) if one is not None]


def environment_secrets(estate: Estate) -> list[str]:
    """The variables of the environment that secrets are taken from, also those that steps give their programs."""
    found = _references(estate)
    for procedure in estate.procedures.values():
        for _, step in walk((*procedure.steps, *procedure.push, *procedure.push_confirm)):
            if isinstance(step, WITH_CLAUSES):
                found += [SecretRef.parse(text) for text in step.how.variables.values() if is_reference(text)]
    return sorted({one.place for one in found if one.kind == "env"})


def temporary_places(estate: Estate) -> list[Path]:
    """Places of the estate that are in folders for temporary files, which a service may have for itself alone."""
    places = [estate.folder, estate.working_folder, *(estate.path(str(one)) for one in _local_places(estate))]
    return sorted({one for one in places if any(one.is_relative_to(folder) for folder in _TEMPORARY)})


def _local_places(estate: Estate) -> Iterator[str]:
    """Where copies, channels and drop folders are, and what is pulled from this machine."""
    yield from (copy.writes_to for copy in estate.copies.values() if copy.writes_to)
    yield from (channel.writes_to for channel in estate.channels.values() if channel.writes_to)
    for source in estate.sources.values():
        procedure = estate.procedure_of(source)
        values = values_of(source, procedure)
        written = [procedure.place] if procedure.place else []
        if not procedure.remote:
            written += [step.says for _, step in walk(procedure.steps) if isinstance(step, Pull)]
        for one in written:
            with suppress(LookupError):
                yield str(fill(one, values))


def _is_there(reference: SecretRef, folder: Path) -> bool:
    if reference.kind == "command":
        return False
    try:
        reference.resolve(folder)
    except SecretError:
        return False
    return True


def written_places(estate: Estate) -> list[str]:
    """Where the service writes, as systemd's ReadWritePaths takes it (systemd.exec(5))."""
    places = [estate.path(copy.writes_to) for copy in estate.copies.values() if copy.writes_to]
    places += [estate.path(one.writes_to).parent for one in estate.channels.values() if one.writes_to]
    for source in estate.sources.values():
        procedure = estate.procedure_of(source)
        if procedure.moves_to is not None:
            credentials = estate.credentials.get(source.credentials or "")
            user = credentials.user if credentials else ""
            folder = estate.path(str(fill(procedure.place, values_of(source, procedure, user))))
            places += [folder, folder / procedure.moves_to]
    store = estate.working_folder
    needed = [estate.folder, store]
    also = [place for place in sorted(set(places)) if not any(place.is_relative_to(one) for one in needed)]
    also = [place for place in also if not any(one in place.parents for one in also)]
    needed = [one for one in needed if one == estate.folder or not one.is_relative_to(estate.folder)]
    return [*map(str, needed), *(f"-{place}" for place in also)]
