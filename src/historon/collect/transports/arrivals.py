"""Exports that arrive by themselves: files that a device pushes into a folder, and mails with attachments."""

import asyncio
import gzip
import json
import os
import re
import shutil
import stat
import zlib
from collections.abc import AsyncIterator, Callable, Iterable, Mapping, Sequence
from contextlib import asynccontextmanager
from fnmatch import fnmatchcase
from pathlib import Path

from historon.collect.failures import CollectError, FailureKind, NotNowError
from historon.collect.transports.interface import Answer, Session, Target
from historon.collect.transports.selecting import check_sum
from historon.collect.transports.xml import parse_xml
from historon.estate import Estate, Step, fill, values_of, walk
from historon.store import Part

__all__ = ["open_drop_folder", "strangers"]

_CHUNK = 2**20
_LARGEST = 2**36


@asynccontextmanager
async def open_drop_folder(target: Target) -> AsyncIterator[Session]:
    """A session on the folder that the source's exports arrive in."""
    yield _DropSession(target)


class _DropSession(Session):
    async def pull(self, path: str, name: str | None, step: Step) -> Sequence[Part]:
        """Take the newest complete file that matches, unless it was taken before."""
        topic = f"taken {step.says}"
        part, mark = await asyncio.to_thread(self._take, path, name, step, self._target.recall(topic))
        self.remembered[topic] = mark
        return [part]

    def _take(self, path: str, name: str | None, step: Step, known: str | None) -> tuple[Part, str]:
        folder = self._target.folder / _own_folder(self._target)
        try:
            found = sorted(_matching(folder, path), key=lambda file: (file.stat().st_mtime_ns, file.name))
        except OSError as exc:
            raise CollectError(FailureKind.SETUP, f"{exc.filename}: {exc.strerror}") from exc
        if not found:
            raise self._nothing(f"nothing has arrived as {path} in {folder}", step)
        whole = next((file for file in reversed(found) if self._incomplete(file, step) is None), None)
        if whole is None and not _newer(found[-1], known):
            raise self._nothing(f"nothing new has arrived; {found[-1].name} never became whole", step)
        if whole is None:
            message = f"{found[-1].name} has not arrived whole: {self._incomplete(found[-1], step)}"
            hint = "it is taken in a later round, once it is complete; if it stays so, see how the device pushes it"
            raise CollectError(FailureKind.INCOMPLETE, message, hint=hint, again=False)
        mark = _mark(whole)
        if mark == known:
            raise self._nothing(f"nothing new has arrived since {whole.name}, which was taken before", step)
        if whole != found[-1]:
            self.remarks.append(f"{found[-1].name} is still arriving; {whole.name} was taken")
        if (older := found.index(whole)) and self._procedure.then != "keep":
            self.remarks.append(f"{older} older file{'s' * (older > 1)} left in the drop folder")
        part = self._read(whole, name or whole.name, step)
        if _mark(whole) != mark:
            message = f"{whole.name} was written to while it was read"
            raise CollectError(FailureKind.INCOMPLETE, message, again=False)
        self._plan(whole)
        return part, mark

    def _nothing(self, message: str, step: Step) -> Exception:
        if step.optional:
            return CollectError(FailureKind.STEP, message, absent=True)
        return NotNowError(message)

    def _read(self, file: Path, name: str, step: Step) -> Part:
        spool = self._spool(step)
        with file.open("rb") as arrived:
            while data := arrived.read(_CHUNK):
                spool.write(data)
        part = spool.part(name)
        if step.checksum:
            check_sum(part, step.checksum, file.name)
        return part

    def _plan(self, file: Path) -> None:
        """What becomes of the original once the export is on disk."""
        if self._procedure.then == "remove":
            self.afterwards.append(lambda: file.unlink(missing_ok=True))
        elif self._procedure.then == "move":
            self.afterwards.append(lambda: _move(file, file.parent / self._procedure.move_to))

    def _incomplete(self, file: Path, step: Step) -> str | None:
        """Why a file does not count as complete, by the sign that the step names."""
        sign, _, place = (step.complete or "").partition(":")
        try:
            return _SIGNS[sign](file, place)
        except OSError as exc:
            return f"{exc.filename}: {exc.strerror}"


def _own_folder(target: Target) -> str:
    account = target.account
    values = values_of(target.source, target.procedure, account.user if account else "")
    return str(fill(target.procedure.folder or "", values))


def _matching(folder: Path, pattern: str) -> Iterable[Path]:
    for entry in os.scandir(folder):
        if entry.is_file(follow_symlinks=False) and fnmatchcase(entry.name, pattern):
            yield Path(entry.path)


def _mark(file: Path) -> str:
    """What a file that was taken is known by: its name, size and time of change."""
    found = file.stat()
    return json.dumps([file.name, found.st_size, found.st_mtime_ns])


def _newer(file: Path, known: str | None) -> bool:
    """Whether a file was last written to after the one that was taken last."""
    return known is None or file.stat().st_mtime_ns > int(json.loads(known)[2])


def _renamed(file: Path, place: str) -> str | None:
    """It got its name when it was complete."""
    return None


def _marker(file: Path, place: str) -> str | None:
    marker = _beside(file, place)
    return None if marker.exists() else f"there is no {marker.name} yet"


def _announced_checksum(file: Path, place: str) -> str | None:
    announced = _beside(file, place)
    if not announced.exists():
        return f"there is no {announced.name} yet"
    try:
        with file.open("rb") as opened:  # a piece at a time: it may be large
            part = Part(file.name, spool=opened, spooled=(file.stat().st_size, b""))
            check_sum(part, announced.read_text("utf-8", "replace"), file.name)
    except CollectError as exc:
        return exc.message
    return None


def _announced_size(file: Path, place: str) -> str | None:
    announced = _beside(file, place)
    if not announced.exists():
        return f"there is no {announced.name} yet"
    found = re.search(r"\d+", announced.read_text("utf-8", "replace"))
    size = file.stat().st_size
    return None if found and int(found[0]) == size else f"it has {size} bytes of {found[0] if found else '?'}"


def _ends(file: Path, place: str) -> str | None:
    with file.open("rb") as opened:
        opened.seek(max(0, file.stat().st_size - 2**16))
        last = opened.read().rstrip().rpartition(b"\n")[2].strip().decode("utf-8", "replace")
    return None if last == place.strip() else f'it ends with "{last[:60]}"'


def _format(file: Path, place: str) -> str | None:
    """Whether it is a whole file of its format."""
    checks: Mapping[str, Callable[[Path], bool]] = {"gzip": _whole_gzip, "xml": _whole_xml, "json": _whole_json}
    if place not in checks:
        return f"{place} is not a format that can be checked (gzip, xml, json)"
    return None if checks[place](file) else f"it is not a whole {place}"


def _whole_gzip(file: Path) -> bool:
    """Unpacked to its end (RFC 1952), nothing kept; one that unpacks for ever is none."""
    unpacked = 0
    try:
        with gzip.open(file) as opened:
            while data := opened.read(_CHUNK):
                unpacked += len(data)
                if unpacked > _LARGEST:
                    return False
    except (OSError, EOFError, zlib.error):
        return False
    return unpacked > 0


def _whole_xml(file: Path) -> bool:
    try:
        parse_xml(file.read_bytes())
    except LookupError:
        return False
    return True


def _whole_json(file: Path) -> bool:
    try:
        _ = Answer(file.read_bytes()).json
    except LookupError:
        return False
    return True


def _beside(file: Path, place: str) -> Path:
    """Another file of the same folder: `{file}` in its name is the name of the first."""
    return file.with_name((place or "{file}.done").replace("{file}", file.name))


_SIGNS: Mapping[str, Callable[[Path, str], str | None]] = {
    "renamed": _renamed, "marker": _marker, "checksum": _announced_checksum, "size": _announced_size, "ends": _ends,
    "format": _format,
}  # fmt: skip


def _move(file: Path, folder: Path) -> None:
    """Into the folder, over nothing that is there."""
    folder.mkdir(mode=0o700, exist_ok=True)
    target, number = folder / file.name, 1
    while target.exists():
        target, number = folder / f"{file.name}.{number}", number + 1
    shutil.move(file, target)


def strangers(estate: Estate) -> list[str]:
    """Files in drop folders that belong to no source, by path: nobody would ever collect them."""
    wanted: dict[Path, list[str]] = {}
    for source in estate.sources.values():
        procedure = estate.procedure_of(source)
        if procedure.over != "drop-folder":
            continue
        values = values_of(source, procedure)
        folder = estate.path(fill(procedure.folder or "", values))
        for _, step in walk(procedure.steps):
            if step.pull is not None:
                pattern = fill(step.pull, values)
                beside = (step.complete or "").partition(":")[2] or "{file}.done"
                wanted.setdefault(folder, []).extend([pattern, beside.replace("{file}", pattern)])
    found = []
    for folder, patterns in wanted.items():
        if folder.is_dir():
            found += [
                entry.path
                for entry in os.scandir(folder)
                if stat.S_ISREG(entry.stat(follow_symlinks=False).st_mode)
                and not entry.name.startswith(".")
                and not any(fnmatchcase(entry.name, pattern) for pattern in patterns)
            ]
    return sorted(found)
