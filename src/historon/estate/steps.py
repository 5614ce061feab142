"""The steps of procedures: a class for each verb, and what steps over one transport alone may say besides."""

from collections.abc import Iterable, Iterator, Mapping
from typing import Any, ClassVar, Generic, Literal, TypeVar

from msgspec import field

from historon.base.formats import Format
from historon.estate.durations import Duration, Size
from historon.estate.patterns import Dated, Finder, Pattern, QuickPattern
from historon.estate.table import Table, given

__all__ = [
    "ASKING",
    "VERBS",
    "WITH_CLAUSES",
    "Asking",
    "Await",
    "Check",
    "Clauses",
    "Clock",
    "Each",
    "Judged",
    "Keep",
    "Keeping",
    "Learning",
    "Pause",
    "Pick",
    "Pull",
    "Put",
    "Said",
    "Saying",
    "Send",
    "Step",
    "Tidy",
    "walk",
]

Said = str | tuple[str, ...]


class Check(Table, frozen=True, kw_only=True):
    """What a good answer looks like; all that is said of it must hold."""

    status: int | tuple[int, ...] | None = None
    exit_code: int | tuple[int, ...] | None = None
    value: dict[str, Pattern] = {}
    holds: tuple[Pattern, ...] = ()
    lacks: tuple[Pattern, ...] = ()
    still: Duration | None = None

    def __post_init__(self) -> None:
        """Something that an answer is checked for."""
        for place in self.value:
            Finder.parse(place)
        if all(getattr(self, name) in (None, (), {}) for name in self.__struct_fields__):
            raise ValueError("checks nothing (add status, exit_code, value, holds, lacks or still)")


class Clauses(Table, frozen=True, kw_only=True):
    """What only the steps of some transports have; those of others have none of it.

    `filled` names the fields in which values are filled, `needed` those that cannot be left out, each with how it could
    be written.
    """

    filled: ClassVar[tuple[str, ...]] = ()
    needed: ClassVar[Mapping[str, str]] = {}

    @property
    def variables(self) -> Mapping[str, str]:
        """What a program is given as variables of its environment, secrets by reference."""
        return {}

    @property
    def typed(self) -> Iterable[str]:
        """What may be typed besides what the step says."""
        return ()

    @property
    def narrows(self) -> bool:
        """Whether they say which files of a folder are taken."""
        return False


C = TypeVar("C", bound=Clauses)
_NOTHING: Any = Clauses()


class Step(Table, frozen=True, kw_only=True):
    """One step of a procedure. `says` is written under the step's verb; what else it has depends on that.

    `needed` are the clauses that cannot be left out, each with how it could be written.
    """

    read_apart: ClassVar[tuple[str, ...]] = ("steps", "how")
    verb: ClassVar[str] = ""
    needed: ClassVar[Mapping[str, str]] = {}
    says: Said
    when: dict[str, QuickPattern] = {}
    deadline: Duration | None = None

    @property
    def clauses(self) -> Mapping[str, object]:
        """The clauses that are given, as they are written, each with what it says."""
        own = {name: value for name, value in given(self) if name not in ("says", "when", "deadline", "how")}
        return {**own, **dict(given(self.how))} if isinstance(self, WITH_CLAUSES) else own

    @property
    def within_it(self) -> tuple["Step", ...]:
        """The steps inside this one."""
        return ()

    @property
    def sayings(self) -> Iterator[Said]:
        """All that this step itself says to a source as commands or requests."""
        yield from ()

    @property
    def learns(self) -> Iterator[str]:
        """The names that stand for something after this step."""
        yield from ()

    def __str__(self) -> str:
        said = self.says if isinstance(self.says, str) else " ".join(self.says)
        return f"{self.verb} {said}"


class Keeping(Step, frozen=True, kw_only=True):
    """A step of which parts come."""

    as_: str | None = field(default=None, name="as")
    was: str | None = None
    ends_with: str | None = None
    min_size: Size | None = None
    max_size: Size | None = None
    follows: str | None = None
    record_only: bool = False
    optional: bool = False
    canonical: bool = False
    is_: Format | None = field(default=None, name="is")
    dated: Dated | None = None
    dated_as: str | None = None

    def __post_init__(self) -> None:
        """An end that can be looked for, a form of something, and a name that is another's."""
        if self.was is not None and (self.was == self.as_ or self.follows is not None):
            raise ValueError(f'was = "{self.was}" is the same name (remove it)')
        if self.dated_as is not None and self.dated in (None, "time"):
            raise ValueError("dated_as has no effect alone (add dated, with a place in the name or the text)")
        if self.ends_with is not None and self.ends_with.startswith("pattern:"):
            Pattern.parse(self.ends_with.removeprefix("pattern:"))


class Asking(Step, Generic[C], frozen=True, kw_only=True):
    """A step that says something to the source; `how` is what its transport has to say besides."""

    how: C = _NOTHING

    @property
    def sayings(self) -> Iterator[Said]:
        yield self.says


class Learning(Asking[C], Generic[C], frozen=True, kw_only=True):
    """A step whose answer names are learnt from."""

    learn: dict[str, Finder] = {}
    learn_secret: dict[str, Finder] = {}

    @property
    def learns(self) -> Iterator[str]:
        yield from (*self.learn, *self.learn_secret)


class Judged(Learning[C], Generic[C], frozen=True, kw_only=True):
    """A step whose answer is checked at once."""

    check: Check | None = None


class Send(Judged[C], Generic[C], frozen=True, kw_only=True):
    """Say something, of which nothing is kept."""

    verb: ClassVar[str] = "send"


class Keep(Keeping, Generic[C], frozen=True, kw_only=True):
    """Say something, and keep the answer as a part: what is said of a Judged step is said of it too."""

    verb: ClassVar[str] = "keep"
    needed: ClassVar[Mapping[str, str]] = {"as": 'a name for the part (add as = "running.cfg")'}
    as_: str = field(name="as")
    how: C = _NOTHING
    learn: dict[str, Finder] = {}
    learn_secret: dict[str, Finder] = {}
    check: Check | None = None

    @property
    def sayings(self) -> Iterator[Said]:
        yield self.says

    @property
    def learns(self) -> Iterator[str]:
        yield from (*self.learn, *self.learn_secret)


class Pull(Keeping, Generic[C], frozen=True, kw_only=True):
    """Fetch a file, or a folder with all that is in it."""

    verb: ClassVar[str] = "pull"
    says: str
    newest: str | None = None
    how: C = _NOTHING

    def __post_init__(self) -> None:
        """One file is narrowed down in one way."""
        super().__post_init__()
        if self.newest is not None and self.newest not in ("time", "name"):
            raise ValueError('newest must be newest = "time" or newest = "name"')
        if self.newest is not None and self.how.narrows:
            raise ValueError("newest takes one file, so include and exclude have no effect (narrow the path)")


class Put(Step, Generic[C], frozen=True, kw_only=True):
    """Put a part of the version that is pushed where it belongs at the source: what `says` is depends on the transport.

    `part` is a part's name, or that of a folder of parts, of which each goes below the place. `wrapped` is a text that
    is put instead, with the part in the place of `{content}`. With `remove_others` files below the place are removed
    that an export has below `part`, and the version has not.
    """

    verb: ClassVar[str] = "put"
    needed: ClassVar[Mapping[str, str]] = {"part": 'the part to put there (add part = "running.cfg")'}
    says: str
    part: str
    wrapped: str | None = None
    remove_others: bool = False
    check: Check | None = None
    how: C = _NOTHING

    def __post_init__(self) -> None:
        """The part has its place in what it is wrapped in."""
        if self.wrapped is not None and self.wrapped.count("{content}") != 1:
            raise ValueError("wrapped contains the part once (write {content} where it belongs)")


class Await(Learning[C], Generic[C], frozen=True, kw_only=True):
    """Ask again and again, until the answer is as it should be."""

    verb: ClassVar[str] = "await"
    needed: ClassVar[Mapping[str, str]] = {"until": "a condition (add until = { holds = ['ready'] })"}
    until: Check
    every: Duration = Duration(seconds=2)
    within: Duration = Duration(minutes=5)
    word: str | None = None
    or_else: Literal["fail", "skip", "continue"] = "fail"


class Pause(Asking[C], Generic[C], frozen=True, kw_only=True):
    """Pause a service for the steps inside, and resume it whatever happened."""

    verb: ClassVar[str] = "pause"
    needed: ClassVar[Mapping[str, str]] = {
        "resume": "a command that undoes it (add resume)",
        "steps": "steps to take while it is paused (add steps)",
    }
    resume: Said
    probe: Said | None = None
    until: Check | None = None
    every: Duration = Duration(seconds=2)
    within: Duration = Duration(minutes=5)
    steps: tuple[Step, ...] = ()

    def __post_init__(self) -> None:
        """A probe is for a condition."""
        if self.probe and not self.until:
            raise ValueError("probe needs a condition (add until = { holds = ['running'] })")

    @property
    def within_it(self) -> tuple[Step, ...]:
        return self.steps

    @property
    def sayings(self) -> Iterator[Said]:
        yield from (self.says, self.resume, *([self.probe] if self.probe is not None else []))


class Each(Step, frozen=True, kw_only=True):
    """Take the steps inside for each item of a list, under this name."""

    verb: ClassVar[str] = "each"
    needed: ClassVar[Mapping[str, str]] = {
        "from": "a list that was learnt (add from)",
        "steps": "steps to take for each (add steps)",
    }
    says: str
    from_: str = field(name="from")
    where: dict[str, QuickPattern] = {}
    steps: tuple[Step, ...] = ()

    @property
    def within_it(self) -> tuple[Step, ...]:
        return self.steps

    @property
    def learns(self) -> Iterator[str]:
        yield self.says


class Pick(Step, frozen=True, kw_only=True):
    """Give one item of a list a name."""

    verb: ClassVar[str] = "pick"
    needed: ClassVar[Mapping[str, str]] = {"from": "a list that was learnt (add from)"}
    says: str
    from_: str = field(name="from")
    where: dict[str, QuickPattern] = {}
    newest: str | None = None

    @property
    def learns(self) -> Iterator[str]:
        yield self.says


class Clock(Judged[C], Generic[C], frozen=True, kw_only=True):
    """Ask the source what time it is there."""

    verb: ClassVar[str] = "clock"
    needed: ClassVar[Mapping[str, str]] = {"format": 'the form of the time (add format = "%Y-%m-%d %H:%M:%S")'}
    format: str


class Tidy(Judged[C], Generic[C], frozen=True, kw_only=True):
    """Say something at the end, whatever happened before."""

    verb: ClassVar[str] = "tidy"


Saying = Asking[C] | Keep[C]
ASKING = (Asking, Keep)  # all that say something, for isinstance
WITH_CLAUSES = (*ASKING, Pull, Put)  # all of which a transport may have more to say
_ALL = (Send, Keep, Pull, Put, Await, Pause, Each, Pick, Clock, Tidy)
VERBS: Mapping[str, type[Step]] = {one.verb: one for one in _ALL}


def walk(steps: tuple[Step, ...], place: tuple[str | int, ...] = ()) -> Iterator[tuple[tuple[str | int, ...], Step]]:
    """All steps, also those inside others, each with its place."""
    for index, step in enumerate(steps):
        yield (*place, index), step
        yield from walk(step.within_it, (*place, index, "steps"))
