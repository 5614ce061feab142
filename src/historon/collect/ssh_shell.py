"""An interactive command line over SSH (RFC 4254 section 6): prompts, echo, pages, and answers that never end."""

import asyncio
import re
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager

import asyncssh

from historon.collect.failures import CollectError, FailureKind
from historon.collect.host_keys import Known
from historon.collect.ssh import connect
from historon.collect.transport import Session, Target
from historon.estate import Procedure
from historon.store import Part

__all__ = ["open_shell"]

_WIDTH = 511  # wide, as pagers and line editors break lines at the terminal's edge
_CHUNK = 65536
# How long a line that looks like a prompt must stand still: one seen before needs less than one never seen.
_SETTLE_KNOWN_S = 0.05
_SETTLE_NEW_S = 0.25
_TAIL = 2000
_LONGEST_PROMPT = 2048
_CONTROL = re.compile(rb"\x1b\[[0-?]*[ -/]*[@-~]|\x1b[@-Z\\-_]")  # ECMA-48 control sequences
_ERASED = re.compile(rb"(?:\r[ ]*\r(?!\n)|\x08+[ ]*\x08*|\x1b\[[0-9;?]*[A-Za-z]|\r(?![\r\n]))+")


@asynccontextmanager
async def open_shell(target: Target, known: Known | None) -> AsyncIterator[Session]:
    """Connect, open a shell and wait for its first prompt."""
    async with connect(target, known) as connection:
        try:
            process = await connection.create_process(
                term_type="dumb", term_size=(_WIDTH, 0), encoding=None, stderr=asyncssh.STDOUT
            )
        except asyncssh.Error as exc:
            raise CollectError(FailureKind.PERMISSION, f"the device opens no command line: {exc.reason}") from exc
        session = _ShellSession(process, target.procedure)
        await session.greet()
        yield session


class _ShellSession(Session):
    def __init__(self, process: asyncssh.SSHClientProcess[bytes], procedure: Procedure) -> None:
        super().__init__()
        self._process = process
        self._procedure = procedure
        self._prompts: set[bytes] = set()
        self._buffer = bytearray()
        self._cuts: list[int] = []

    @property
    def tail(self) -> bytes:
        """See Session."""
        return bytes(self._buffer[-_TAIL:])

    async def greet(self) -> None:
        """Read banners and messages of the day up to the first prompt."""
        deadline = self._procedure.step_deadline
        try:
            async with asyncio.timeout(deadline.total_seconds()):
                await self._read_answer()
        except TimeoutError as exc:
            raise CollectError(
                FailureKind.TIME,
                f"no prompt appeared within {deadline} of logging in",
                hint="compare the last line with the procedure's prompt",
                tail=self.tail,
            ) from exc

    async def say(self, what: str | Sequence[str]) -> bytes:
        """Type a line and return what the device answers, as text with line feeds, without echo, pages and prompt."""
        assert isinstance(what, str)  # noqa: S101 (checked when the estate file is read)
        line = what.encode()
        self._write(line + b"\n")
        return _without_echo(await self._read_answer(), line)

    async def pull(self, path: str, name: str | None) -> list[Part]:
        """Not possible over a command line; the estate file is checked for it."""
        raise CollectError(FailureKind.STEP, f"{path} cannot be pulled over an interactive shell")

    def _write(self, data: bytes) -> None:
        try:
            self._process.stdin.write(data)
        except (BrokenPipeError, OSError) as exc:
            raise self._closed() from exc

    async def _read_answer(self) -> bytes:
        self._buffer.clear()
        self._cuts.clear()
        settle = None
        while True:
            try:
                async with asyncio.timeout(settle):
                    chunk = await self._read_chunk()
            except TimeoutError:
                if settle is None:
                    raise
                break
            self._buffer += chunk
            if len(self._buffer) > self._procedure.max_size:
                raise CollectError(
                    FailureKind.TOO_LARGE, f"the answer exceeds {self._procedure.max_size} bytes", tail=self.tail
                )
            settle = self._looks_finished()
        self._prompts.add(self._last_line())
        return self._answer()

    async def _read_chunk(self) -> bytes:
        try:
            chunk = await self._process.stdout.read(_CHUNK)
        except (asyncssh.Error, OSError) as exc:
            raise self._closed() from exc
        if not chunk:
            raise self._closed()
        return chunk

    def _closed(self) -> CollectError:
        return CollectError(
            FailureKind.INCOMPLETE,
            f"the device closed the connection in the middle of an answer, after {len(self._buffer)} bytes",
            tail=self.tail,
        )

    def _looks_finished(self) -> float | None:
        """How long to wait for more before the answer counts as whole; None when it is plainly going on.

        Only a last line without its line feed can be a prompt or a pager's question: look-alikes stand in banners
        and descriptions, followed by more.
        """
        last = self._last_line()
        pager = self._procedure.pager
        if pager and (found := pager.compiled.search(last)):
            start = len(self._buffer) - len(self._raw_last_line())
            del self._buffer[start + (found.start() if last == self._raw_last_line() else 0) :]
            self._cuts.append(len(self._buffer))
            self._write(self._procedure.pager_answer.encode())
            return None
        if last in self._prompts:
            return _SETTLE_KNOWN_S
        prompt = self._procedure.prompt
        return _SETTLE_NEW_S if prompt and last and prompt.compiled.search(last) else None

    def _raw_last_line(self) -> bytes:
        """What stands behind the last line feed; of an endless line only its end, which costs the same each time."""
        return bytes(self._buffer[-_LONGEST_PROMPT:]).rpartition(b"\n")[2]

    def _last_line(self) -> bytes:
        """The unfinished last line as a terminal would show it."""
        return _CONTROL.sub(b"", self._raw_last_line()).rpartition(b"\r")[2]

    def _answer(self) -> bytes:
        """What came back without the prompt, the pager's traces and the terminal's carriage returns."""
        text = bytes(self._buffer[: self._buffer.rfind(b"\n") + 1])
        for cut in reversed(self._cuts):
            if erased := _ERASED.match(text, cut):
                text = text[:cut] + text[erased.end() :]
        return re.sub(rb"\r+\n", b"\n", text)


def _without_echo(answer: bytes, line: bytes) -> bytes:
    first, feed, rest = answer.partition(b"\n")
    return rest if feed and _CONTROL.sub(b"", first).strip().endswith(line.strip()) else answer
