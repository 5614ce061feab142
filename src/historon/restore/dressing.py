"""What a file, folder or link is besides its bytes: mode, owner and times, compared and given back."""

import grp
import os
import pwd
import stat
from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, datetime

from historon.base.folders import Below, Dress
from historon.store import Member, owner_of, raw_name

__all__ = ["as_file", "differences", "dress_folder", "dressed", "target_of"]

_KINDS = {stat.S_IFREG: "a file", stat.S_IFDIR: "a folder", stat.S_IFLNK: "a link"}
_BITS = 0o777  # set-user-ID and the like are not given back


def as_file(name: str) -> str:
    """The name of a part as the system has it, with the very bytes that it had."""
    return os.fsdecode(raw_name(name))


def target_of(member: Member) -> str:
    """Where a link led."""
    return os.fsdecode(raw_name(member.target or ""))


def kind_of(mode: int) -> str:
    """`a file`, `a folder`, `a link`, or `something else`."""
    return _KINDS.get(stat.S_IFMT(mode), "another kind of file")


def differences(
    member: Member, found: os.stat_result, target: str | None = None, *, times: bool = True
) -> Iterator[str]:
    """How something that is there differs from what it was, in words, with or without its time.

    `target` is where a link that is there leads.
    """
    if stat.S_IFMT(member.mode) != stat.S_IFMT(found.st_mode):
        yield f"it is {kind_of(found.st_mode)}, and was {kind_of(member.mode)}"
        return
    if stat.S_ISLNK(member.mode):
        if member.target is not None and target != target_of(member):
            yield f"the link leads to {target}, and led to {target_of(member)}"
        return
    if member.mode & _BITS != found.st_mode & _BITS:
        yield f"its mode is {found.st_mode & _BITS:04o}, and was {member.mode & _BITS:04o}"
    if os.geteuid() == 0 and _ids(member) not in ((found.st_uid, found.st_gid), None):
        yield f"its owner is {owner_of(found)}, and was {member.owner}"
    if times and stat.S_ISREG(member.mode) and abs(member.at.timestamp() - found.st_mtime) > 0.001:
        yield f"its time is {_time(found.st_mtime)}, and was {_time(member.at.timestamp())}"


def _time(seconds: float) -> str:
    return datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%d %H:%M:%S UTC")


def _ids(member: Member) -> tuple[int, int] | None:
    """The numbers of a member's owner and group here; None where this machine does not know them."""
    user, _, group = member.owner.partition(":")
    try:
        return (
            int(user) if user.isdecimal() else pwd.getpwnam(user).pw_uid,
            int(group) if group.isdecimal() else grp.getgrnam(group).gr_gid,
        )
    except KeyError:
        return None


def dressed(member: Member | None, *, permissions: bool) -> Dress | None:
    """Gives an open file its time back, and with `permissions` its owner, where this user may, and its mode."""
    if member is None:
        return None

    def dress(file: int) -> None:
        if permissions:
            owner = _ids(member)
            if owner is not None:
                with suppress(PermissionError):  # only the superuser may
                    os.fchown(file, *owner)
            os.fchmod(file, stat.S_IMODE(member.mode) & _BITS)
        seconds = member.at.timestamp()
        os.utime(file, (seconds, seconds))

    return dress


def dress_folder(below: Below, name: str, member: Member, *, permissions: bool) -> None:
    """The same for a folder that is there."""
    dress = dressed(member, permissions=permissions)
    with below.folder_at(name) as folder:
        if dress is not None:
            dress(folder)
