"""What lies beside a copy of plain files: a manifest with the digest of each, and a record of whom it belongs to."""

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass, field

from historon.base.errors import StoreError
from historon.copies.here import Folder

__all__ = ["MANIFEST", "RECORD", "Record", "is_below", "problem_of", "read_manifest", "write_manifest"]

MANIFEST = "SHA256SUMS"
RECORD = "copy.json"
_FORM = 1
_MANIFEST_HINT = "move it away and update again: files with the right content are used as they are"


@dataclass(frozen=True)
class Record:
    """The store that a copy belongs to (see `store_identity`), its estate, and the numbers of the versions given to it.

    A version may be in the record and not yet in the copy, where an update was cut short; never the other way round.
    """

    store: str
    estate: str
    pattern: str
    versions: Mapping[str, frozenset[int]] = field(default_factory=dict)

    @classmethod
    def read(cls, folder: Folder) -> "Record | None":
        """None where there is none. StoreError when it says what nobody can read."""
        try:
            content = b"".join(folder.read(RECORD))
        except FileNotFoundError:
            return None
        hint = "it records which store the copy belongs to: restore this file, or give the copy another folder"
        damaged = StoreError(f"{folder.place}/{RECORD} is damaged", hint=hint)
        try:
            data = json.loads(content)
            if int(data["form"]) > _FORM:
                raise StoreError(f"{folder.place}: a newer Historon wrote this copy", hint="install that one here too")
            versions = {str(name): _numbers(str(told)) for name, told in data["versions"].items()}
            return cls(str(data["store"]), str(data["estate"]), str(data["pattern"]), versions)
        except (ValueError, KeyError, TypeError, AttributeError, OverflowError, RecursionError) as exc:
            raise damaged from exc

    def write(self, folder: Folder) -> None:
        """Put it into the copy's folder."""
        versions = {name: _spans(numbers) for name, numbers in sorted(self.versions.items())}
        data = {
            "form": _FORM,
            "store": self.store,
            "estate": self.estate,
            "pattern": self.pattern,
            "versions": versions,
        }
        folder.put(RECORD, [(json.dumps(data, indent=1) + "\n").encode()])


def _spans(numbers: frozenset[int]) -> str:
    """Numbers as spans: `1-17,19`."""
    spans: list[list[int]] = []
    for number in sorted(numbers):
        if spans and number == spans[-1][1] + 1:
            spans[-1][1] = number
        else:
            spans.append([number, number])
    return ",".join(f"{first}-{last}" if last > first else f"{first}" for first, last in spans)


def _numbers(spans: str) -> frozenset[int]:
    """The numbers in spans. ValueError when these are none, or more than any source has."""
    found: set[int] = set()
    for span in filter(None, spans.split(",")):
        first, _, last = span.partition("-")
        if not 0 < int(first) <= int(last or first) < 2**31 or int(last or first) - int(first) > 10**6:
            raise ValueError(span)
        found.update(range(int(first), int(last or first) + 1))
    return frozenset(found)


def is_below(name: str) -> bool:
    """Whether a name is that of something below the copy's folder, and one that the manifest can hold."""
    pieces = name.split("/")
    leads_elsewhere = ".." in pieces or not pieces[0]
    return name not in ("", ".") and not (leads_elsewhere or "\n" in name or "\\" in name)


def read_manifest(folder: Folder) -> dict[str, str]:
    """The digests of the files that are Historon's, by name. StoreError when it says what nobody can read."""
    found: dict[str, str] = {}
    damaged = StoreError(f"{folder.place}/{MANIFEST}: the manifest is damaged", hint=_MANIFEST_HINT)
    try:
        text = b"".join(folder.read(MANIFEST)).decode("utf-8")
    except FileNotFoundError:
        return {}
    except UnicodeError as exc:
        raise damaged from exc
    for line in text.split("\n")[:-1]:  # names may hold what `splitlines` parts at
        digest, between, name = line[:64], line[64:66], line[66:]
        if between != "  " or len(digest) != 64 or not is_below(name):
            raise damaged
        found[name] = digest
    return found


def write_manifest(folder: Folder, digests: Mapping[str, str]) -> None:
    """Put a manifest of these files into the copy's folder."""
    text = "".join(f"{digest}  {name}\n" for name, digest in sorted(digests.items()))
    folder.put(MANIFEST, [text.encode()])


def problem_of(folder: Folder, name: str, expected: str) -> str:
    """What is wrong with a file; empty when it is there, whole."""
    digest = hashlib.sha256()
    try:
        for piece in folder.read(name):
            digest.update(piece)
    except FileNotFoundError:
        return "it is missing"
    except StoreError as exc:
        return exc.message
    return "" if digest.hexdigest() == expected else "it does not match its SHA-256"
