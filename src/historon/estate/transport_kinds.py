"""Every transport, in one table: what is to be known of it before anything is reached.

A new one is a row here, a module of that name in `collect/transports`, and a section of docs/collecting.md. A setting
or clause that no other has is also a field of `Procedure` or `Step`.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Self

from historon.estate.spelling import nearest

__all__ = ["TRANSPORTS", "TransportKind", "TransportName"]


@dataclass(frozen=True)
class TransportKind:
    """One transport: the `module` that opens its sessions, and its `port` where no other is named (0 for none).

    `over_ssh` means that the other side is known by a host key, and may stand behind jump hosts; `by_certificate` that
    it is known by an X.509 certificate. With `logs_in_at_once` an open session means that the account was let in. What
    is `arriving` comes by itself, may have to be put away, and nothing is sent for it. `remote` sources have an
    address, and an account unless the transport may ask `anonymously`. Files can be pulled where it `pulls`; with
    `as_list` what is said is a list of words, as no shell reads it.

    `settings` of a procedure and `clauses` of a step are those that not every transport has; `needed` are the settings,
    and `needed_to_pull` the clauses, that it cannot do without, each with how it could be written.
    """

    name: str
    module: str
    port: int = 0
    over_ssh: bool = False
    by_certificate: bool = False
    logs_in_at_once: bool = False
    arriving: bool = False
    remote: bool = True
    anonymously: bool = False
    pulls: bool = True
    as_list: bool = False
    settings: frozenset[str] = frozenset()
    clauses: frozenset[str] = frozenset()
    needed: Mapping[str, str] = field(default_factory=dict)
    needed_to_pull: Mapping[str, str] = field(default_factory=dict)


_DIALOGUE = frozenset({"prompt", "pager", "pager_answer", "typing"})
_ANSWERING = frozenset({"answers", "prompt"})
_PROMPT = {"prompt": "a prompt (such as prompt = '^\\S+[>#] ?$')"}
_ARRIVING = frozenset({"folder", "then", "move_to", "take"})
_CHOOSING = frozenset({"include", "exclude", "checksum"})
_TABLE = (
    TransportKind(
        "ssh-shell",
        "ssh_shell",
        22,  # RFC 4253 section 4.2
        over_ssh=True,
        logs_in_at_once=True,
        pulls=False,
        settings=_DIALOGUE,
        clauses=_ANSWERING,
        needed=_PROMPT,
    ),
    TransportKind(
        "ssh-exec",
        "ssh_exec",
        22,  # RFC 4253 section 4.2
        over_ssh=True,
        logs_in_at_once=True,
        settings=frozenset({"transfer"}),
        clauses=_CHOOSING,
    ),
    TransportKind(
        "netconf", "netconf", 830, over_ssh=True, logs_in_at_once=True, pulls=False, clauses=frozenset({"filter"})
    ),
    TransportKind(
        "telnet",
        "telnet",
        23,
        logs_in_at_once=True,
        pulls=False,
        settings=_DIALOGUE | {"login_prompt", "password_prompt"},
        clauses=_ANSWERING,
        needed=_PROMPT,
    ),
    TransportKind(
        "https",
        "https",
        443,
        by_certificate=True,
        anonymously=True,
        settings=frozenset({"auth", "base", "login_page"}),
        clauses=frozenset({"checksum", "json", "form", "body", "headers"}),
    ),
    TransportKind("local", "local", remote=False, as_list=True, clauses=_CHOOSING | {"environment"}),
    TransportKind(
        "drop-folder",
        "arrivals",
        arriving=True,
        remote=False,
        settings=_ARRIVING,
        clauses=frozenset({"checksum", "complete"}),
        needed={"folder": 'the folder (add folder = "/srv/drop")'},
        needed_to_pull={"complete": 'when a file is complete (add complete = "renamed" or another sign)'},
    ),
    TransportKind(
        "mailbox",
        "mailbox",
        993,
        by_certificate=True,
        arriving=True,
        settings=_ARRIVING | {"mailbox"},
        clauses=frozenset({"sender", "subject"}),
    ),
)
TRANSPORTS: Mapping[str, TransportKind] = {one.name: one for one in _TABLE}


class TransportName(str):
    """The name of a transport."""

    __slots__ = ()

    @classmethod
    def parse(cls, text: object) -> Self:
        """Check that there is such a one; ValueError names those that there are."""
        if not isinstance(text, str) or text not in TRANSPORTS:
            hint = nearest(str(text), TRANSPORTS)
            raise ValueError(f'"{text}" is not possible here ({hint})')
        return cls(text)
