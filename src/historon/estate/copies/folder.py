"""A copy in plain files."""

from typing import ClassVar

from historon.estate.copies.copy import FarCopy

__all__ = ["FolderCopy"]


class FolderCopy(FarCopy, frozen=True, kw_only=True):
    """`kind = "folder"`: plain files, named by `pattern`, and the newest also under `latest`."""

    kind: ClassVar[str] = "folder"

    pattern: str = "{source}/{date}T{time}Z/{part}"
    latest: bool = False
    retention: str | None = None

    def __post_init__(self) -> None:
        """A pattern gives each part of each version a name of its own, below the copy's folder."""
        super().__post_init__()
        try:
            tried = self.pattern.format(source="s", number=1, date="d", time="t", part="p")
        except (KeyError, IndexError, ValueError, AttributeError) as exc:
            raise ValueError("pattern knows {source}, {number}, {date}, {time} and {part}, and nothing else") from exc
        told = [one for one in ("{source}", "{part}") if one not in self.pattern]
        if told or not ("{number}" in self.pattern or ("{date}" in self.pattern and "{time}" in self.pattern)):
            raise ValueError("pattern must hold {source}, {part}, and {number} or {date} with {time}")
        if tried.startswith("/") or ".." in tried.split("/") or not self.pattern.endswith("{part}"):
            raise ValueError("pattern is a path below the copy's folder, with {part} at its end")
