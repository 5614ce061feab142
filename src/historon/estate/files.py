"""The files of an estate, from the disk or as they were remembered."""

from collections.abc import Iterator, Mapping
from pathlib import Path

__all__ = ["Files"]


class Files:
    """The texts that an estate is read from. `texts` holds each that was read, by its name in `folder`.

    Texts that are `given` replace those of the disk; with `remembered` the disk is not read at all.
    """

    def __init__(
        self, folder: Path, given: Mapping[str, str] | None = None, remembered: Mapping[str, str] | None = None
    ) -> None:
        self.folder = folder
        self.texts: dict[str, str] = {}
        self._given = {**(remembered or {}), **(given or {})}
        self._from_disk = remembered is None

    def read(self, name: str) -> str:
        """The text of a file. Raises OSError and UnicodeError."""
        if name in self._given:
            text = self._given[name]
        elif self._from_disk:
            text = (self.folder / name).read_bytes().decode("utf-8-sig")
        else:
            raise FileNotFoundError(name)
        self.texts[name] = text
        return text

    def has_folder(self, name: str) -> bool:
        """Whether a folder of procedures is there."""
        return (self.folder / name).is_dir() if self._from_disk else any(self.procedures_in(name))

    def procedures_in(self, name: str) -> Iterator[str]:
        """The names of the files that hold a procedure each, called after it."""
        if self._from_disk:
            there = (self.folder / name).glob("*.toml")
            yield from (f"{name}/{file}" for file in sorted(one.name for one in there) if not file.startswith("."))
        else:
            yield from sorted(one for one in self._given if one.startswith(f"{name}/") and one.endswith(".toml"))
