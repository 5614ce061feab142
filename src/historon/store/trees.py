"""The metadata of a tree as a part of its own: a line for each member, readable, and fit to be compared."""

import grp
import json
import os
import pwd
import re
import stat
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

__all__ = ["Member", "TreeRecord", "name_of", "owner_of", "raw_name", "read_tree", "tree_part_name", "written_tree"]

_HEAD = "# tree: mode, owner, time of change, name"
_LINE = re.compile(r"([-dl][-rwxsStT]{9}) (\S*) (\S+) (.*)")
_KINDS = {"-": stat.S_IFREG, "d": stat.S_IFDIR, "l": stat.S_IFLNK}
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


_LIKE_AN_ESCAPE = re.compile(rb"\\(?=x(?:5c|[89a-f][0-9a-f]))")
_ESCAPE = re.compile(rb"\\x(5c|[89a-f][0-9a-f])")


def name_of(raw: bytes) -> str:
    r"""The name of a file as text: bytes that are no UTF-8 are written as `\xe9`, from which `raw_name` leads back."""
    return _LIKE_AN_ESCAPE.sub(rb"\\x5c", raw).decode("utf-8", "backslashreplace")


def raw_name(name: str) -> bytes:
    """The bytes of a name again."""
    return _ESCAPE.sub(lambda match: bytes.fromhex(match[1].decode()), name.encode("utf-8", "replace"))


@dataclass(frozen=True)
class Member:
    """One member of a tree: a file, a folder or a link.

    `mode` is as in stat(2), `owner` is `user:group` by name or number, `at` the time of its last change in UTC.
    """

    name: str
    mode: int
    owner: str
    at: datetime
    target: str | None = None

    @classmethod
    def of(cls, name: str, mode: int, owner: str, seconds: float, target: str | None = None) -> "Member":
        """A member with its time in seconds since 1970-01-01 UTC."""
        return cls(name, mode, owner, _EPOCH + timedelta(seconds=min(max(seconds, 0), 2**34)), target)


def owner_of(found: os.stat_result) -> str:
    """`user:group` of something on this machine, by name where they have one."""
    user, group = str(found.st_uid), str(found.st_gid)
    with suppress(KeyError):
        user = pwd.getpwuid(found.st_uid).pw_name
    with suppress(KeyError):
        group = grp.getgrgid(found.st_gid).gr_name
    return f"{user}:{group}"


def tree_part_name(base: str) -> str:
    """What the part with the metadata of a tree is called."""
    return f"{base}.tree" if base else "tree"


class TreeRecord(bytes):
    """The metadata of a tree, written by Historon: known by its type, as a source may name and write a part so, too."""


def written_tree(members: Iterable[Member]) -> TreeRecord:
    """The part, with members by name."""
    lines = [_HEAD, *(_line(member) for member in sorted(members, key=lambda member: member.name))]
    return TreeRecord("".join(f"{line}\n" for line in lines).encode("utf-8", "backslashreplace"))


def _line(member: Member) -> str:
    target = f" -> {_quoted(member.target)}" if member.target is not None else ""
    at = member.at.isoformat(timespec="microseconds").replace("+00:00", "Z")
    return f"{stat.filemode(member.mode)} {member.owner} {at} {_quoted(member.name)}{target}"


def _quoted(name: str) -> str:
    plain = name.isprintable() and '"' not in name and " -> " not in name and name.strip() == name
    return name if plain else json.dumps(name)


def read_tree(content: bytes) -> Iterator[Member]:
    """The members that a part tells of; none when it is no such part."""
    lines = content.decode("utf-8", "replace").split("\n")
    if lines[0] != _HEAD:
        return
    for line in lines[1:]:
        member = _member(line)
        if member:
            yield member


def _member(line: str) -> Member | None:
    """What a line tells; None where it is no such line, as in a file that only looks like a tree's part."""
    found = _LINE.fullmatch(line)
    if not found:
        return None
    mode, owner, at, rest = found.groups()
    try:
        name, target = _names(rest)
        when = datetime.fromisoformat(at.replace("Z", "+00:00"))
    except (ValueError, RecursionError):
        return None
    if when.tzinfo is None:
        return None
    return Member(name, _KINDS[mode[0]] | _bits(mode[1:]), owner, when, target if mode[0] == "l" else None)


def _names(rest: str) -> tuple[str, str | None]:
    if rest.startswith('"'):
        name, end = json.JSONDecoder().raw_decode(rest)
        rest = rest[end:]
    else:
        name, arrow, target = rest.partition(" -> ")
        rest = arrow + target
    if not rest:
        return str(name), None
    target = rest.removeprefix(" -> ")
    return str(name), str(json.loads(target)) if target.startswith('"') else target


def _bits(letters: str) -> int:
    """The permission bits of `rwxr-x---`; set-user-ID and the like are left to who restores."""
    return sum(1 << (8 - index) for index, letter in enumerate(letters) if letter in "rwxst")
