"""What every copy has, whatever its kind; and what those have that may lie on another machine."""

from collections.abc import Mapping
from typing import ClassVar

from historon.estate.durations import Duration, Size
from historon.estate.table import Port, Table

__all__ = ["Copy", "FarCopy"]


class Copy(Table, frozen=True, kw_only=True):
    """`[copies.NAME]`: a second place for versions, and for how long something may be missing there."""

    kind: ClassVar[str] = ""
    carries_settings: ClassVar[bool] = False  # whether the estate's own files lie in it too

    path: str
    mount: str | None = None
    max_lag: Duration = Duration(hours=26)

    @property
    def place(self) -> str:
        """Where it is, as a person reads it."""
        return self.path

    @property
    def account(self) -> str | None:
        """See Channel."""
        return None

    @property
    def own_retention(self) -> str | None:
        """The name of the retention by which versions stay in it; None where that of their sources counts."""
        return None

    @property
    def reserved(self) -> tuple[str, ...]:
        """The names that no source may have, as something of the copy itself is called so."""
        return ()

    @property
    def reads(self) -> Mapping[str, str | None]:
        """See Channel."""
        return {}

    @property
    def labels(self) -> tuple[str, ...]:
        """The labels by which sources are sorted in it."""
        return ()

    @property
    def writes_to(self) -> str | None:
        """The folder of this machine that it is written to, as it is written; None for none."""
        return self.mount or self.path


class FarCopy(Copy, frozen=True, kw_only=True):
    """A copy in a folder, of this machine or, over SFTP, of a `server` that is known by its `host_key`.

    `bandwidth` is in bytes a second.
    """

    server: str | None = None
    port: Port = 22
    credentials: str | None = None
    host_key: str | None = None
    bandwidth: Size | None = None

    def __post_init__(self) -> None:
        """A server is reached by an account, and known by its key; without one there is nothing to say of either."""
        if self.server is not None:
            if self.credentials is None or self.host_key is None:
                raise ValueError(f"{self.server} needs an account and its host key (add credentials and host_key)")
            if self.mount is not None:
                raise ValueError("mount has no effect on a server (remove it)")
            return
        for key in ("credentials", "host_key", "bandwidth"):
            if getattr(self, key) is not None:
                raise ValueError(f"{key} has no effect without a server (remove it)")
        if self.port != 22:
            raise ValueError("port has no effect without a server (remove it)")

    @property
    def account(self) -> str | None:
        return self.credentials

    @property
    def place(self) -> str:
        if self.server is None:
            return self.path
        port = f":{self.port}" if self.port != 22 else ""
        return f"sftp://{self.server}{port}/{self.path.lstrip('/')}"

    @property
    def writes_to(self) -> str | None:
        return super().writes_to if self.server is None else None
