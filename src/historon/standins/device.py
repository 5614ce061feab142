"""What simulated devices behind SSH have in common: a name, an account, a host key, and a port on loopback."""

from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import Any

import asyncssh

__all__ = ["SshDevice"]


class SshDevice(ABC):
    """A device that lets in `user` with `password`, or with the key `authorized` where one is set."""

    def __init__(self, name: str, authorized: asyncssh.SSHKey | None = None) -> None:
        self.name = name
        self.user = "config-reader"
        self.password = "harbour-light"
        self.authorized = authorized
        self.port = 0
        self.host_key = asyncssh.generate_private_key("ssh-ed25519")
        self.interactive_only = False  # whether passwords are asked for as questions (RFC 4256) alone
        self.passwords_tried = 0
        self.forwards = False  # whether it lets connections through to others, as a jump host does
        self.sessions = 0
        self.sessions_with_fault: int | None = None  # after so many sessions a fault mends itself; None: never
        self._server: asyncssh.SSHAcceptor | None = None

    @property
    def fingerprint(self) -> str:
        """The host key's fingerprint, as the console would show it."""
        return self.host_key.get_fingerprint()

    async def start(self) -> None:
        """Listen on loopback, on the port of before or a free one."""
        self._server = await asyncssh.create_server(
            lambda: _Guard(self),
            "127.0.0.1",
            self.port,
            server_host_keys=[self.host_key],
            process_factory=self._session,
            encoding=None,
            line_editor=False,
            **self._options(),
        )
        self.port = self._server.get_port()

    async def stop(self) -> None:
        """Stop listening."""
        if self._server:
            self._server.close()
            await self._server.wait_closed()

    def _options(self) -> dict[str, Any]:
        """What else this device serves."""
        return {}

    def _is_mended(self) -> bool:
        """Count a session; whether what is wrong with the device is over by now."""
        self.sessions += 1
        return self.sessions_with_fault is not None and self.sessions > self.sessions_with_fault

    @abstractmethod
    async def _session(self, process: asyncssh.SSHServerProcess[bytes]) -> None:
        """Answer one session."""


class _Guard(asyncssh.SSHServer):
    """Lets in who has the device's password or key; asyncssh's names say when it is asked."""

    def __init__(self, device: SshDevice) -> None:
        self._device = device

    def begin_auth(self, username: str) -> bool:
        """Everybody has to log in."""
        return True

    def password_auth_supported(self) -> bool:
        """Passwords are taken, as such or as the answer to a question."""
        return not self._device.interactive_only

    def kbdint_auth_supported(self) -> bool:
        """Questions are asked where passwords are not taken otherwise."""
        return self._device.interactive_only

    def get_kbdint_challenge(
        self, username: str, lang: str, submethods: str
    ) -> tuple[str, str, str, list[tuple[str, bool]]]:
        """One question."""
        return "", "", "", [("Password: ", False)]

    def validate_kbdint_response(self, username: str, responses: Sequence[str]) -> bool:
        """Whether the answer is the device's password."""
        return (username, *responses) == (self._device.user, self._device.password)

    def validate_password(self, username: str, password: str) -> bool:
        """Whether it is the device's."""
        self._device.passwords_tried += 1
        return (username, password) == (self._device.user, self._device.password)

    def connection_requested(self, dest_host: str, dest_port: int, orig_host: str, orig_port: int) -> bool:
        """Whether connections go through it (RFC 4254 section 7.2)."""
        return self._device.forwards

    def public_key_auth_supported(self) -> bool:
        """Keys are taken where one is set."""
        return self._device.authorized is not None

    def validate_public_key(self, username: str, key: asyncssh.SSHKey) -> bool:
        """Whether it is the one that is set."""
        return username == self._device.user and key == self._device.authorized
