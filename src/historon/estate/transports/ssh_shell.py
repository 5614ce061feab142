"""A shell over SSH, as a person would type in it."""

from typing import ClassVar

from historon.estate.transports.terminal import Terminal

__all__ = ["SshShell"]


class SshShell(Terminal, frozen=True, kw_only=True):
    """`over = "ssh-shell"`: a shell on a terminal (RFC 4254 section 6.5)."""

    over: ClassVar[str] = "ssh-shell"
    module: ClassVar[str] = "ssh_shell"
    port: ClassVar[int] = 22  # RFC 4253 section 4.2
    over_ssh: ClassVar[bool] = True
