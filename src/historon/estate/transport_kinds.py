"""Every transport, in one table: what is to be known of it before anything is reached.

A new one is a row here, a module of that name in `collect/transports`, and a section of docs/collecting.md; which
settings of steps fit it stands in `procedures`.
"""

from collections.abc import Mapping
from dataclasses import dataclass

__all__ = ["TRANSPORTS", "TransportKind"]


@dataclass(frozen=True)
class TransportKind:
    """One transport: the `module` that opens its sessions, and its `port` where no other is named (0 for none).

    `over_ssh` means that the other side is known by a host key, and may stand behind jump hosts; `by_certificate` that
    it is known by an X.509 certificate. With `logs_in_at_once` an open session means that the account was let in. What
    is `arriving` comes by itself, and may have to be put away.
    """

    name: str
    module: str
    port: int = 0
    over_ssh: bool = False
    by_certificate: bool = False
    logs_in_at_once: bool = False
    arriving: bool = False


_TABLE = (
    TransportKind("ssh-shell", "ssh_shell", 22, over_ssh=True, logs_in_at_once=True),
    TransportKind("ssh-exec", "ssh_exec", 22, over_ssh=True, logs_in_at_once=True),
    TransportKind("netconf", "netconf", 22, over_ssh=True, logs_in_at_once=True),
    TransportKind("telnet", "telnet", 23, logs_in_at_once=True),
    TransportKind("https", "https", 443, by_certificate=True),
    TransportKind("local", "local"),
    TransportKind("drop-folder", "arrivals", arriving=True),
    TransportKind("mailbox", "mailbox", 993, by_certificate=True, arriving=True),
)
TRANSPORTS: Mapping[str, TransportKind] = {one.name: one for one in _TABLE}
