"""Where a store is: a folder of this machine, or a database server."""

from typing import Self
from urllib.parse import parse_qsl, urlsplit

__all__ = ["StorePlace"]

_SERVERS = ("postgresql",)
_OPTIONS = ("sslrootcert",)


class StorePlace(str):
    """A folder, relative to the estate file, or `postgresql://USER@HOST:PORT/DATABASE` (RFC 3986)."""

    __slots__ = ()

    @classmethod
    def parse(cls, text: object) -> Self:
        """Read a place; ValueError says what is wrong with it, and never repeats a password."""
        if not isinstance(text, str) or not text:
            raise ValueError("expected a folder, or postgresql://USER@HOST/DATABASE")
        scheme, behind, _ = text.partition("://")
        if not behind:
            return cls(text)
        if scheme not in _SERVERS:
            raise ValueError(f'"{scheme}://" is not a supported store (a folder, or postgresql://HOST/DATABASE)')
        try:
            url = urlsplit(text)
            _ = url.port
        except ValueError as exc:
            raise ValueError("the URL cannot be read: expected postgresql://USER@HOST:PORT/DATABASE") from exc
        if url.password is not None:
            raise ValueError("a password must not be in the URL (refer to it: store_password = file:PATH)")
        if not url.hostname and not url.query:
            raise ValueError("the URL has no host: expected postgresql://USER@HOST/DATABASE")
        if not url.path.strip("/"):
            raise ValueError("the URL has no database: expected postgresql://USER@HOST/DATABASE")
        unknown = [name for name, _ in parse_qsl(url.query) if name not in (*_OPTIONS, "host")]
        if unknown or url.fragment:
            wrong = (unknown or [url.fragment])[0]
            raise ValueError(f'"{wrong}" is not an option of this URL (sslrootcert=FILE, host=FOLDER-OF-A-SOCKET)')
        return cls(text)

    @property
    def on_server(self) -> bool:
        """Whether it is not a folder of this machine."""
        return "://" in self
