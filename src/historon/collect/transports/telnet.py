"""An interactive command line over Telnet (RFC 854): for devices that have nothing better, as anybody can listen."""

import asyncio
from collections.abc import AsyncIterator, Mapping
from contextlib import asynccontextmanager
from typing import Any, ClassVar

from historon.base.patience import within
from historon.collect.failures import CollectError, FailureKind
from historon.collect.transports.dialogue import WIDTH, Dialogue, Terminal
from historon.collect.transports.interface import Session, Target
from historon.estate import QuickPattern

__all__ = ["Telnet", "open_session"]

_CONNECT_S = 20
_CHUNK = 65536


class Telnet(Terminal, frozen=True, kw_only=True):
    """`over = "telnet"`: a shell in the clear (RFC 854), which asks for name and password itself."""

    over: ClassVar[str] = "telnet"
    port: ClassVar[int] = 23
    concerns: ClassVar[Mapping[str, str]] = {
        "Telnet sends the password in the clear": (
            "use ssh-shell as soon as the device can; until then keep it in a separate network"
        )
    }

    login_prompt: QuickPattern = QuickPattern.parse(r"(?i)(?:login|username|user)\s*: *$")
    password_prompt: QuickPattern = QuickPattern.parse(r"(?i)password\s*: *$")


@asynccontextmanager
async def open_session(target: Target[Telnet], _known: object = None) -> AsyncIterator[Session[Telnet]]:
    """Connect, log in where the device asks for it, and wait for the first prompt."""
    import telnetlib3  # imported where it is used: few devices need it

    place = target.place
    try:
        async with asyncio.timeout(_CONNECT_S):
            reader, writer = await telnetlib3.open_connection(
                target.source.address,
                target.port,
                encoding=False,
                term="dumb",
                cols=WIDTH,
                rows=0,
                connect_minwait=0.0,
                connect_maxwait=0.5,
            )
    except ConnectionRefusedError as exc:
        raise CollectError(FailureKind.REFUSED, f"{place}: connection refused") from exc
    except TimeoutError as exc:
        raise CollectError(FailureKind.UNREACHABLE, f"{place} timed out after {_CONNECT_S}s") from exc
    except OSError as exc:
        raise CollectError(FailureKind.UNREACHABLE, f"{place}: {exc.strerror or exc}") from exc
    try:
        session = _TelnetSession(target, reader, writer)
        await session.log_in()
        yield session
    finally:
        writer.close()


class _TelnetSession(Dialogue[Telnet]):
    def __init__(self, target: Target[Telnet], reader: Any, writer: Any) -> None:
        super().__init__(target)
        self._reader = reader
        self._writer = writer

    async def _read(self) -> bytes:
        try:
            return bytes(await self._reader.read(_CHUNK))
        except (OSError, EOFError) as exc:
            raise self._closed() from exc

    def _write(self, data: bytes) -> None:
        # A line ends with CR LF on a network virtual terminal (RFC 854, page 11).
        self._writer.write(data.replace(b"\n", b"\r\n"))

    async def log_in(self) -> None:
        """Answer the questions for user and password, until a prompt stands there."""
        account = self._target.login
        asked = {self._procedure.login_prompt: account.user}
        if account.password:
            asked[self._procedure.password_prompt] = account.password.reveal()
        deadline = self._procedure.step_deadline
        try:
            async with within(deadline):
                await self._answer_questions(asked)
        except TimeoutError as exc:
            hint = "compare the last line with the procedure's prompt, login_prompt and password_prompt"
            message = f"no prompt appeared within {deadline} of connecting"
            raise CollectError(FailureKind.TIME, message, hint=hint, tail=self.tail) from exc

    async def _answer_questions(self, asked: Mapping[QuickPattern, str]) -> None:
        waiting = dict(asked)
        while chunk := await self._read():
            self._buffer += chunk
            last = self._last_line()
            question = next((one for one in asked if one.compiled.search(last)), None)
            if question is not None:
                if question not in waiting:
                    message = f"{self._target.source.address} refused the log-in"
                    raise CollectError(FailureKind.LOGIN, message, tail=self.tail)
                self._answered = len(self._buffer)
                await self._type(waiting.pop(question))
            elif self._procedure.prompt.compiled.search(last):
                self._note_prompt()
                return
        if self._procedure.password_prompt in waiting:  # it was given no password that it could refuse
            message = f"{self._target.place} ended the connection before it asked for a password"
            raise CollectError(FailureKind.UNREACHABLE, message, tail=self.tail)
        raise CollectError(FailureKind.LOGIN, "the device closed the connection while logging in", tail=self.tail)
