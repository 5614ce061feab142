"""Interactive command lines: prompts, echo, pages, questions, and answers that never end."""

import asyncio
import re
from abc import abstractmethod
from collections.abc import Iterable, Mapping
from typing import ClassVar, Generic, TypeVar

from historon.base.patience import within
from historon.base.quantities import size_text
from historon.collect.failures import CollectError, FailureKind
from historon.collect.transports.interface import TAIL, Answer, Session, Target
from historon.estate import Clauses, Duration, Pattern, Procedure, QuickPattern, Saying

__all__ = ["WIDTH", "Dialogue", "Terminal", "Typing"]

WIDTH = 511  # columns: wide, as pagers and line editors break lines at the terminal's edge
# How long a line that looks like a prompt must stand still: one seen before needs less than one never seen.
_SETTLE_KNOWN_S = 0.05
_SETTLE_NEW_S = 0.25
_LONGEST_PROMPT = 2048
_MOST_QUESTIONS = 100
_CONTROL = re.compile(rb"\x1b\[[0-?]*[ -/]*[@-~]|\x1b[@-Z\\-_]")  # ECMA-48 control sequences
_ENDS = re.compile(rb"(?<!\r)\r+\n")
_ERASED = re.compile(rb"(?:\r[ ]*\r(?!\n)|\x08+[ ]*\x08*|\x1b\[[0-9;?]*[A-Za-z]|\r(?![\r\n]))+")


class Typing(Clauses, frozen=True, kw_only=True):
    """Questions that a step foresees, and its own prompt."""

    filled: ClassVar[tuple[str, ...]] = ("answers",)
    answers: dict[str, str] = {}
    prompt: QuickPattern | None = None

    def __post_init__(self) -> None:
        """Questions are expressions."""
        for question in self.answers:
            QuickPattern.parse(question)

    @property
    def typed(self) -> Iterable[str]:
        return self.answers.values()


class Terminal(Procedure, frozen=True, kw_only=True):
    """A prompt, a pager, and how fast the other side can read."""

    logs_in_at_once: ClassVar[bool] = True
    asking: ClassVar[type[Clauses] | None] = Typing
    pulling: ClassVar[type[Clauses] | None] = None
    putting: ClassVar[type[Clauses] | None] = Typing
    typing_lines: ClassVar[bool] = True
    needed: ClassVar[Mapping[str, str]] = {"prompt": "a prompt (such as prompt = '^\\S+[>#] ?$')"}

    prompt: QuickPattern
    pager: QuickPattern | None = None
    pager_answer: str = " "
    typing: Duration | None = None

    def __post_init__(self) -> None:
        """Keys that mean nothing without another."""
        super().__post_init__()
        if self.pager is None and self.pager_answer != " ":
            raise ValueError("pager_answer answers nothing (add pager, or remove it)")


T = TypeVar("T", bound=Terminal)


class Dialogue(Session[T], Generic[T]):
    """A conversation with a command line, over whatever carries its bytes."""

    def __init__(self, target: Target[T]) -> None:
        super().__init__(target)
        self._prompts: set[bytes] = set()
        self._buffer = bytearray()
        self._cuts: list[tuple[int, int]] = []
        self._answered = 0  # up to where of the buffer questions were answered
        self._questions = 0
        self._given: set[bytes] = set()  # questions that were answered with a secret
        self._secret_given = False  # since the last whole answer

    @abstractmethod
    async def _read(self) -> bytes:
        """The next bytes; none when the other side has closed. CollectError when the connection breaks."""

    @abstractmethod
    def _write(self, data: bytes) -> None:
        """Send bytes. CollectError when the connection is broken."""

    @property
    def tail(self) -> bytes:
        return bytes(self._buffer[-TAIL:])

    async def greet(self) -> None:
        """Read banners and messages of the day up to the first prompt."""
        deadline = self._procedure.step_deadline
        try:
            async with within(deadline):
                await self._read_answer(None, self._procedure.max_size)
        except TimeoutError as exc:
            raise CollectError(
                FailureKind.TIME,
                f"no prompt appeared within {deadline} of logging in",
                hint="compare the last line with the procedure's prompt",
                tail=self.tail,
            ) from exc

    async def say(self, what: str, step: Saying[Typing]) -> Answer:
        """Type a line and return what the device answers, as text with line feeds, without echo, pages and prompt."""
        self._secret_given = self.gives_secret(what)
        await self._type(what)
        return Answer(_without_echo(await self._read_answer(step.how, self.limit(step)), what.encode()))

    async def _type(self, line: str) -> None:
        """Type a line, as slowly as the procedure says: a serial line loses what comes too fast."""
        data = line.encode() + b"\n"
        if self._procedure.typing is None:
            self._write(data)
            return
        for letter in data:
            self._write(bytes([letter]))
            await asyncio.sleep(self._procedure.typing.total_seconds())

    async def _read_answer(self, how: Typing | None, limit: int) -> bytes:
        self._buffer.clear()
        self._cuts.clear()
        self._answered = self._questions = 0
        settle = None
        while True:
            try:
                async with asyncio.timeout(settle):
                    chunk = await self._read()
            except TimeoutError:
                if settle is None:
                    raise
                break
            if not chunk:
                raise self._closed()
            self._buffer += chunk
            if len(self._buffer) > limit:
                raise CollectError(FailureKind.TOO_LARGE, f"the answer exceeds {size_text(limit)}", tail=self.tail)
            settle = await self._looks_finished(how)
        self._note_prompt()
        self._secret_given = False
        return self._answer()

    def _note_prompt(self) -> None:
        """Know this prompt from now on; the first one is what the device is known by."""
        prompt = self._last_line()
        self._prompts.add(prompt)
        self._target.shown.prompt = self._target.shown.prompt or prompt.decode(errors="replace").strip()

    def _closed(self) -> CollectError:
        if self._secret_given:  # to hang up is how some refuse a password: it is not typed again
            message = "the device refused the password and closed the connection"
            return CollectError(FailureKind.LOGIN, message, tail=self.tail)
        return CollectError(
            FailureKind.INCOMPLETE,
            f"the device closed the connection in the middle of an answer, after {size_text(len(self._buffer))}",
            tail=self.tail,
        )

    async def _looks_finished(self, how: Typing | None) -> float | None:
        """How long to wait for more before the answer counts as whole; None when it is plainly going on.

        Only a last line without its line feed can be a prompt or a question: look-alikes stand in banners and
        descriptions, followed by more.
        """
        last = self._last_line()
        if last and await self._asked(last, how):
            return None
        if last in self._prompts:
            return _SETTLE_KNOWN_S
        prompt = (how.prompt if how else None) or self._procedure.prompt
        return _SETTLE_NEW_S if prompt and last and prompt.compiled.search(last) else None

    async def _asked(self, last: bytes, how: Typing | None) -> bool:
        """Answer a question of the pager, which leaves no trace, or one that the step foresees."""
        pager = self._procedure.pager
        if pager and (found := pager.compiled.search(last)):
            raw = self._raw_last_line()
            start = len(self._buffer) - len(raw)
            del self._buffer[start + (found.start() if last == raw else 0) :]
            shown = _CONTROL.sub(b"", raw).rpartition(b"\r")[2]
            self._cuts.append((len(self._buffer), len(shown)))
            self._write(self._procedure.pager_answer.encode())
            return True
        for question, answer in how.answers.items() if how else ():
            if Pattern.parse(question).compiled.search(last):
                self._questions += 1
                if self._questions > _MOST_QUESTIONS:
                    raise CollectError(FailureKind.STEP, "the device repeats the same question", tail=self.tail)
                if self.gives_secret(answer):
                    self._give_once(last)
                self._answered = len(self._buffer)
                await self._type(answer)
                return True
        return False

    def _give_once(self, question: bytes) -> None:
        """Note that a secret is given; CollectError when the same question comes again, as that refuses it."""
        if question in self._given:
            message = "the device refused the password"
            raise CollectError(FailureKind.LOGIN, message, tail=self.tail)
        self._given.add(question)
        self._secret_given = True

    def _raw_last_line(self) -> bytes:
        """What stands behind the last line feed; of an endless line only its end, which costs the same each time."""
        start = max(self._answered, len(self._buffer) - _LONGEST_PROMPT)
        return bytes(self._buffer[start:]).rpartition(b"\n")[2]

    def _last_line(self) -> bytes:
        """The unfinished last line as a terminal would show it."""
        return _CONTROL.sub(b"", self._raw_last_line()).rpartition(b"\r")[2]

    def _answer(self) -> bytes:
        """What came back without the prompt, the pager's traces and the terminal's carriage returns."""
        text = bytes(self._buffer[: self._buffer.rfind(b"\n") + 1])
        kept, at = [], 0
        for cut, length in self._cuts:
            erased = _ERASED.match(text, cut) if cut >= at else None
            if erased:
                kept.append(text[at:cut])
                written, at = _not_filled_up(text, erased.end(), length)
                kept.append(written)
        kept.append(text[at:])
        return _ENDS.sub(b"\n", b"".join(kept))


def _not_filled_up(text: bytes, at: int, length: int) -> tuple[bytes, int]:
    """What the line that begins here holds beside the blanks that only wipe what is left of a longer question.

    On a terminal that cannot erase, a pager writes the next line over its question, and fills it up to the same length.
    With it comes up to where of the text that is.
    """
    shown = text[at : at + length]
    behind = text[at + length : at + length + 8].lstrip(b"\r")[:1]
    if len(shown) == length and shown.endswith(b" ") and b"\n" not in shown and behind in (b"\n", b""):
        return shown.rstrip(b" "), at + length
    return b"", at


def _without_echo(answer: bytes, line: bytes) -> bytes:
    first, feed, rest = answer.partition(b"\n")
    return rest if feed and _CONTROL.sub(b"", first).strip().endswith(line.strip()) else answer
