"""What a comparison is between (versions and plain files, as they are written), and what it finds."""

from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path

from historon.api.context import Opened
from historon.api.history import record_named
from historon.api.results import Difference, Side
from historon.base.errors import OutsideError, UsageError
from historon.compare import PartChange, compare_exports
from historon.store import State, Store, TreeRecord, Version
from historon.versions import Masks, contents_of, is_called

__all__ = ["NoChangeError", "compared"]


_FILE = "file:"
_NAMED = 8


def compared(opened: Opened, old: str, new: str | None, only: str | None, masks: Callable[[str], Masks]) -> Difference:
    """What differs between two sides as they are written on the command line, by the masks of their source."""
    source, before, after = _sides(opened, old, new, only)
    changes = compare_exports(before.contents, after.contents, masks(source))
    if only is not None:
        changes = _narrowed(changes, only, [before, after])
    return Difference(before, after, changes, opened.weights)


class NoChangeError(UsageError):
    """A source has only versions without a difference between them, but for noise."""


def _sides(opened: Opened, old: str, new: str | None, only: str | None) -> tuple[str, Side, Side]:
    """The source whose masks hold, and both sides.

    Raises UsageError when there is nothing to compare, OutsideError when a file cannot be read.
    """
    written = [one for one in (old, new) if one is not None]
    plain = [one for one in written if one.startswith(_FILE)]
    if not plain:
        before, after = _versions(opened, old, new)
        return after.source, _stored(opened.store, before), _stored(opened.store, after)
    if len(plain) == len(written):
        raise UsageError("one side must be a source", hint="historon diff file:golden.cfg edge-1")
    stored_as = next(one for one in written if not one.startswith(_FILE))
    found = record_named(opened, stored_as)
    whole = _stored(opened.store, found)
    part = _one_part(stored_as, whole.contents, only)
    stored = Side(whole.name, whole.at, {part: whole.contents[part]}, found)
    file = _from_file(Path(plain[0].removeprefix(_FILE)), part)
    return found.source, *((file, stored) if old.startswith(_FILE) else (stored, file))


def _versions(opened: Opened, old: str, new: str | None) -> tuple[Version, Version]:
    """Both that are named; of one the latest beside it, and of a bare source its last change."""
    if new:
        return record_named(opened, old), record_named(opened, new)
    source, at, _ = old.partition("@")
    first = record_named(opened, old)
    if at:
        return first, record_named(opened, source)
    good = [one for one in opened.store.versions(source) if one.good]
    last = max((place for place, one in enumerate(good) if one.state is State.GOOD), default=0)
    if last == 0:
        raise NoChangeError(
            f"{source} has no change on record since its first version", hint=f"historon versions {source}"
        )
    return good[last - 1], good[last]


def _stored(store: Store, version: Version) -> Side:
    contents = contents_of(store, version.source, version.number)
    return Side(f"{version.source}@{version.number}", version.at, contents, version)


def _one_part(named: str, contents: Mapping[str, bytes], only: str | None) -> str:
    """The part that a plain file stands beside."""
    told = [name for name, content in contents.items() if not isinstance(content, TreeRecord)]
    if only is not None and only in contents:
        told = [only]
    if len(told) != 1:
        listed = ", ".join(told[:_NAMED])
        raise UsageError(f"{named} has {len(told)} parts; name one", hint=f"add --only with one of: {listed}")
    return told[0]


def _from_file(path: Path, part: str) -> Side:
    try:
        at = datetime.fromtimestamp(path.stat().st_mtime, UTC)
        return Side(str(path), at, {part: path.read_bytes()})
    except OSError as exc:
        raise OutsideError(f"{path}: {exc.strerror}", hint="check the path") from exc


def _narrowed(changes: Sequence[PartChange], only: str, sides: Sequence[Side]) -> list[PartChange]:
    """The parts of this name, or in this folder; else what stands under this path. UsageError when there is no such."""
    contents = {name: content for side in sides for name, content in side.contents.items()}
    names = [*contents, *(change.name for change in changes)]
    if any(is_called(name, only) for name in names):
        return [change for change in changes if is_called(change.name, only)]
    texts = b"\n".join(contents.values()).lower()
    if not all(step.strip().encode() in texts for step in only.lower().split(" / ")):
        raise UsageError(
            f'no part and no path is called "{only}"', hint="--form outline shows the paths of the changes"
        )
    kept = [change.only(only) for change in changes]
    return [change for change in kept if change]
