"""The versions of a source, as the store records them, and what is known of those that were removed."""

from historon.api.context import Opened
from historon.base.errors import UsageError
from historon.store import RENAMED, RETIRED, Version
from historon.versions import Reference, resolve

__all__ = ["good_records_of", "record_named", "records_of"]


def records_of(opened: Opened, source: str) -> list[Version]:
    """All versions of a source, oldest first, also of one that the estate file no longer names.

    Raises UsageError when there is no such source.
    """
    found = opened.store.versions(source)
    if not found:
        why = opened.store.recall(source, RETIRED) or ""
        if why.startswith(RENAMED):
            raise UsageError(f"{source} was {why}", hint=f"historon versions {why.removeprefix(RENAMED)}")
        opened.select(source)
    return found


def good_records_of(opened: Opened, source: str) -> list[Version]:
    """The good versions of a source, oldest first. Raises UsageError when there is no such source."""
    found = [version for version in opened.store.versions(source) if version.good]
    if not found:
        opened.select(source)
    return found


def record_named(opened: Opened, written: str) -> Version:
    """The record of the version that `SOURCE@WHEN` names. Raises UsageError when it does not exist."""
    reference = Reference.parse(written)
    if reference.source not in opened.described.sources:
        records_of(opened, reference.source)
    return resolve(opened.store, reference, now=opened.clock(), zone=opened.zone)
