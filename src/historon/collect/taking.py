"""Taking the steps of a procedure over a session: what all verbs share."""

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractAsyncContextManager, asynccontextmanager, contextmanager
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from time import monotonic
from typing import Any, TypeVar
from zoneinfo import ZoneInfo

from msgspec import UNSET
from msgspec.structs import replace

from historon.base.patience import within
from historon.base.threads import apart
from historon.base.workers import Workers
from historon.collect.answers import find_one, has_wrong_status, whats_wrong
from historon.collect.dates import export_date
from historon.collect.failures import CollectError, FailureKind
from historon.collect.leftovers import Leftovers
from historon.collect.reading import expressions_of, read_in
from historon.collect.statuses import status_failure
from historon.collect.transports.interface import Answer, Session
from historon.estate import (
    ACCOUNT_VALUES,
    WITH_CLAUSES,
    Asking,
    Check,
    Duration,
    Finder,
    Judged,
    Keep,
    Keeping,
    Learning,
    Pattern,
    Pause,
    Procedure,
    Pull,
    Said,
    SecretRef,
    Step,
    Tidy,
    fill,
    is_reference,
)
from historon.inspection import Kept, error_line
from historon.store import Part

__all__ = [
    "BEARABLE",
    "Result",
    "StepContext",
    "StepObserver",
    "StepTaken",
    "Taker",
    "Taking",
    "Wanted",
    "failing",
    "to_its_end",
    "words",
]

T = TypeVar("T")
S = TypeVar("S", bound=Step)
BEARABLE = (FailureKind.STEP, FailureKind.PERMISSION)


@dataclass(frozen=True)
class StepTaken:
    """A step that ended well: how long it took, and the answer, or the parts that were pulled."""

    place: str
    took: timedelta
    answer: bytes = field(repr=False)
    parts: Sequence[Part]


@dataclass(frozen=True)
class Wanted:
    """A part of a version that is pushed: what it is to hold, and the lines that lead there where lines are typed.

    It `differs` from what the source holds; what does not is not put. One that is to be `removed` only the source has.
    """

    content: bytes = field(repr=False)
    differs: bool
    lines: Sequence[str] = ()
    removed: bool = False


StepObserver = Callable[[StepTaken], None]


@dataclass
class StepContext:
    """What steps need beside the session: values to fill in, workers to read answers, the time, a way to a new session.

    `skew` is by how much clocks may differ.

    `hide` learns every secret that is learnt; `paused` how to resume what is about to be paused and whether we
    are at
    it, and None when nothing is paused any more. `wanted` are the parts of a version that is pushed, by their names.
    """

    source: str
    values: dict[str, Any]
    workers: Workers
    clock: Callable[[], datetime]
    zone: ZoneInfo
    skew: timedelta
    reopen: Callable[[], AbstractAsyncContextManager[Session[Any]]]
    hide: Callable[[str], None]
    paused: Callable[[Said | None, bool], None]
    leftovers: Leftovers
    told: StepObserver | None = None
    wanted: Mapping[str, Wanted] = field(default_factory=dict)
    answers: list[tuple[str, bytes]] = field(default_factory=list)  # to lines that were typed, where there was any
    secret: set[str] = field(default_factory=lambda: set(ACCOUNT_VALUES))


Result = tuple[bytes, Sequence[Part]]  # the answer, and the parts that were kept
Taker = Callable[["Taking", str, Any], Awaitable[None]]


@dataclass
class Taking:
    """One way through a procedure; `taker_of` says how a step is taken."""

    session: Session[Any]
    procedure: Procedure
    around: StepContext
    taker_of: Callable[[Step], Taker]
    kept: list[Kept] = field(default_factory=list)
    passed_over: list[str] = field(default_factory=list)
    repeatable: bool = False  # whether the step being taken may be taken again when no answer comes

    async def take_all(self, steps: Sequence[Step], above: str = "") -> None:
        """These steps in their order, but for those whose `when` does not hold; those that tidy always, at the end."""

        def place(number: int, step: Step) -> str:
            return f"{above}step {number} of {len(steps)} ({self._shown(step)})"

        well = False
        try:
            for number, step in enumerate(steps, 1):
                if isinstance(step, Tidy):
                    continue
                if self._fits(step):
                    await self.take(place(number, step), step)
                elif isinstance(step, Pause):  # it need not be paused this time: what is inside is wanted anyway
                    await self.take_all(step.steps, f"{place(number, step)}, ")
            well = True
        finally:
            for number, step in enumerate(steps, 1):
                if isinstance(step, Tidy) and self._fits(step):
                    await self._tidy(place(number, step), step, well=well)

    def _shown(self, step: Step) -> str:
        """A step as a message names it: with its values, but for secrets and for what nobody knows yet."""
        public = {**self.around.values, **{name: f"{{{name}}}" for name in self.around.secret}}
        try:
            said = words(fill(step.says, public))
        except LookupError:
            return str(step)
        return f"{step.verb} {said}"

    async def _tidy(self, place: str, step: Tidy[Any], *, well: bool) -> None:
        """A step that goes on when the round is interrupted, and whose failure is a remark."""
        try:
            self.filled(step)
            said = self.fill(step.says)
        except CollectError as exc:
            if well:  # else what it would tidy up was perhaps never begun
                self.session.remarks.append(f"{place} was left out: {exc.message}")
            return
        for earlier in self.around.leftovers.of(step.says):
            await to_its_end(self._tidy_once(place, step, earlier))
        await to_its_end(self._tidy_once(place, step, said))

    async def _tidy_once(self, place: str, step: Tidy[Any], said: Said) -> None:
        """Say it, or what an earlier round said in vain; that is said again at the next visit, unless it was refused.

        What is the same every time is said then in any case, and what holds a secret is not written down.
        """
        earlier = said != self.fill(step.says)
        try:
            if earlier:
                async with self.within(step.deadline, place):
                    await self.judge(await self.session.say(said, self.filled(step)), step, step.check)
            else:
                await self.take(place, step)
        except CollectError as exc:
            self.session.remarks.append(f"{exc.step} did not tidy up: {exc.message}")
            secret = any(one in words(said) for one in self.session.secrets)
            if said != step.says and not secret and not (earlier and exc.kind in BEARABLE):
                self.around.leftovers.add(step.says, said)
                return
        self.around.leftovers.done(step.says, said)

    def _fits(self, step: Step) -> bool:
        for name, pattern in step.when.items():
            value = str(self.around.values.get(name, ""))
            if not pattern.compiled.search(value.encode()):
                if isinstance(step, Keeping):
                    self.passed_over.append(f'{name} is "{value}", not {pattern}')
                return False
        return True

    async def take(self, place: str, step: Step) -> None:
        """One step, as its verb is taken. Those with others inside have no time of their own: each of those has."""
        self.session.place = place
        self.repeatable = self.session.may_repeat(step.says)
        taker = self.taker_of(step)
        await taker(self, place, step)

    async def single(self, place: str, step: S, work: "Callable[[Taking, S], Awaitable[Result]]") -> None:
        """A step without others inside: within its deadline, with its values filled in."""
        async with self.within(step.deadline, place):
            await self.timed(place, lambda: work(self, self.filled(step)))

    async def timed(self, place: str, work: Callable[[], Awaitable[Result]]) -> None:
        """Do the work, and let the observer hear how long it took and what came of it."""
        began = monotonic()
        answer, parts = await work()
        if self.around.told:
            self.around.told(StepTaken(place, timedelta(seconds=monotonic() - began), answer, parts))

    async def note_date(self, step: Keep[Any] | Pull[Any], answer: Answer) -> None:
        """When a part was made, by its own account. Where nobody can tell, that is a remark, and its age is unknown."""
        if step.dated is None:
            return
        told, now = None, self.around.clock()
        finder = Finder(step.dated) if step.dated.kind not in ("time", "name") else None
        given = step.dated, step.dated_as, self.session.origin, self.around.zone
        try:
            told = await self.read(answer, export_date, *given, asked=finder)
        except (LookupError, CollectError) as exc:
            why = str(exc.args[0])
        else:
            if told <= now + self.around.skew:
                self.session.dates.append(told)
                return
            why = f"its date, {told.isoformat(' ', 'seconds')}, is in the future"
        self.session.dates.append(None)
        self.session.remarks.append(f"the age of {step.as_ or step.says} is unknown: {why}")

    async def answer(self, step: Judged[Any] | Keep[Any]) -> Answer:
        """A good answer, from which names were learnt."""
        said = self.fill(step.says)
        answer = await self.ask(said, step)
        secret, safe = self._gives_secret(said, step), self.session.changes_nothing(said)
        await self.judge(answer, step, step.check, logging_in=secret, safe=safe)
        await self.learn(answer, step)
        return answer

    async def ask(self, said: Said, step: Asking[Any] | Keep[Any]) -> Answer:
        """Say it; what the step gives its program as variables is fetched first, and hidden from then on."""
        given: dict[str, str] = {}
        for name, written in step.how.variables.items():
            if is_reference(written):
                secret = await apart(
                    f"a secret of {self.around.source}", SecretRef.parse(written).resolve, self.session.folder
                )
                self.around.hide(secret.reveal())
                given[name] = secret.reveal()
            else:
                with failing():
                    given[name] = fill(written, self.around.values)
        how = replace(step.how, environment=given) if given else step.how
        return await self.session.say(said, replace(step, how=how))

    def _gives_secret(self, said: Said, step: Asking[Any] | Keep[Any]) -> bool:
        """Whether this step types a password, as its line or as the answer to a question."""
        typed = [said] if isinstance(said, str) else []
        return any(self.session.gives_secret(one) for one in (*typed, *step.how.typed))

    async def judge(
        self, answer: Answer, step: Step, check: Check | None = None, *, logging_in: bool = False, safe: bool = False
    ) -> None:
        """Whether it is a good answer. What a part holds is for inspection to judge, unless more is checked of it."""
        if check is None or not (check.value or check.holds or check.lacks):
            wrong = whats_wrong(answer, check)  # by how it ended alone, however long it is
        else:
            wrong = await self.read(answer, whats_wrong, check, asked=check)
        refused = False
        if wrong is None and not isinstance(step, Keep):
            own = () if self.procedure.errors is UNSET else self.procedure.errors
            line = await self.read(answer, _error_line, self.procedure, asked=own)
            if line is not None:
                wrong, refused = f'the answer is "{line}"', logging_in
        if wrong is not None and answer.status is not None and has_wrong_status(answer, check):
            raise status_failure(answer.status, answer.content, safe=safe, tail=answer.tail)
        if wrong is not None:
            raise CollectError(FailureKind.LOGIN if refused else FailureKind.STEP, wrong, tail=answer.tail)

    async def learn(self, answer: Answer, step: Learning[Any] | Keep[Any]) -> None:
        """Give names to what stands in the answer."""
        for name, finder in (*step.learn.items(), *step.learn_secret.items()):
            with failing(answer):
                self.around.values[name] = value = await self.read(answer, _found, finder, asked=finder)
            if name in step.learn_secret:
                self.around.secret.add(name)
                self.around.hide(str(value))
                self.session.secrets.add(str(value))

    async def read(
        self,
        answer: Answer,
        work: Callable[..., T],
        *given: Any,
        asked: Check | Finder | Iterable[Pattern] | None = None,
    ) -> T:
        """What is found in an answer, by the expressions of what is asked."""
        return await read_in(
            answer,
            work,
            *given,
            expressions=expressions_of(asked),
            workers=self.around.workers,
            source=self.around.source,
        )

    def fill(self, said: Said) -> Said:
        """What is said, with values in it. Raises CollectError when one is unknown."""
        with failing():
            filled: Said = fill(said, self.around.values)
        return filled

    def filled(self, step: S) -> S:
        """The step with values in all that is handed to a transport; what is said is filled when it is said."""
        made: dict[str, Any] = {}
        with failing():
            if isinstance(step, Keeping):
                made["as_"] = fill(step.as_, self.around.values)
                made["ends_with"] = fill(step.ends_with, self.around.values)
            if isinstance(step, WITH_CLAUSES):
                how = step.how
                filled = {name: fill(getattr(how, name), self.around.values) for name in how.filled}
                made["how"] = replace(how, **filled)
        return replace(step, **made) if made else step

    @asynccontextmanager
    async def within(self, deadline: Duration | None, place: str) -> AsyncIterator[None]:
        """A step's deadline, and its place in whatever goes wrong."""
        limit = deadline or self.procedure.step_deadline
        try:
            async with within(limit):
                yield
        except TimeoutError as exc:
            message = f"timed out after {limit} without a complete answer"
            late = CollectError(FailureKind.TIME, message, tail=self.session.tail)
            late.passes = self.repeatable
            raise late.at_step(place) from exc
        except CollectError as exc:
            raise exc.at_step(place) from exc.__cause__


@contextmanager
def failing(answer: Answer | None = None) -> Iterator[None]:
    """That something looked for is not there is a failure of the step."""
    try:
        yield
    except LookupError as exc:
        raise CollectError(FailureKind.STEP, str(exc.args[0]), tail=answer.tail if answer else b"") from exc


async def to_its_end(work: Awaitable[T]) -> T:
    """Work that goes on when its task is cancelled; the cancellation comes after it."""
    task = asyncio.ensure_future(work)
    cancelled: asyncio.CancelledError | None = None
    while not task.done():
        try:
            await asyncio.shield(task)
        except asyncio.CancelledError as exc:
            if task.cancelled():
                raise
            cancelled = exc
        except BaseException:  # noqa: S110 (the result below raises it)
            pass
    if cancelled and not task.exception():
        raise cancelled
    return task.result()


def words(said: Said | None) -> str:
    """A saying as one would type it."""
    return said if isinstance(said, str) else " ".join(said or ())


def _error_line(answer: Answer, procedure: Procedure) -> str | None:
    return error_line(answer.content, procedure)


def _found(answer: Answer, finder: Finder) -> Any:
    return find_one(finder, answer)
