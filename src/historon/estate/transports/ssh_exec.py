"""Commands over SSH, and files over SFTP or SCP."""

from typing import ClassVar, Literal

from historon.estate.procedures import Procedure
from historon.estate.steps import Clauses
from historon.estate.transports.files import Choosing

__all__ = ["SshExec"]


class SshExec(Procedure, frozen=True, kw_only=True):
    """`over = "ssh-exec"`: a program a step (RFC 4254 section 6.5), and files by `transfer`."""

    over: ClassVar[str] = "ssh-exec"
    module: ClassVar[str] = "ssh_exec"
    port: ClassVar[int] = 22  # RFC 4253 section 4.2
    over_ssh: ClassVar[bool] = True
    logs_in_at_once: ClassVar[bool] = True
    pulling: ClassVar[type[Clauses] | None] = Choosing
    putting: ClassVar[type[Clauses] | None] = Clauses

    transfer: Literal["sftp", "scp"] = "sftp"
