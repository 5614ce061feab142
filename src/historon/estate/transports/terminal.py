"""What transports share on which one types, and reads until a prompt comes."""

from collections.abc import Iterable, Mapping
from typing import ClassVar

from historon.estate.durations import Duration
from historon.estate.patterns import QuickPattern
from historon.estate.procedures import Procedure
from historon.estate.steps import Clauses

__all__ = ["Terminal", "Typing"]


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
        """See Clauses."""
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
