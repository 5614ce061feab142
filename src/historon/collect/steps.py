"""Going through a procedure, step by step."""

import asyncio
import re
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
from historon.base.sizes import size_text
from historon.base.threads import apart
from historon.base.workers import Workers
from historon.collect.answers import choose, field_of, find_one, has_wrong_status, whats_wrong
from historon.collect.clocks import told_instant
from historon.collect.dates import export_date
from historon.collect.failures import NOT_RESUMED, CollectError, FailureKind, NotNowError
from historon.collect.leftovers import Leftovers
from historon.collect.newest import newest_of
from historon.collect.reading import expressions_of, read_in
from historon.collect.statuses import status_failure
from historon.collect.transports.interface import Answer, Origin, Session
from historon.collect.transports.xml import canonical_json, canonical_xml
from historon.estate import (
    ACCOUNT_VALUES,
    WITH_CLAUSES,
    Asking,
    Await,
    Check,
    Clock,
    Duration,
    Each,
    Finder,
    Judged,
    Keep,
    Keeping,
    Learning,
    Pattern,
    Pause,
    Pick,
    Procedure,
    Pull,
    Put,
    Said,
    SecretRef,
    Step,
    Tidy,
    fill,
    is_reference,
    walk,
)
from historon.inspection import Kept, error_line
from historon.store import LARGE, Part
from historon.versions import belongs_to

__all__ = ["StepContext", "StepObserver", "StepTaken", "Wanted", "resume", "take_push", "take_steps"]

T = TypeVar("T")
S = TypeVar("S", bound=Step)
_HOSTILE = ("..", ".", "")
_RESUMES = 3
_MOST_TURNS = 1000
_DECLARATION = re.compile(rb"\A\s*<\?xml[^>]*\?>\s*")  # XML 1.0, section 2.8


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


async def take_steps(session: Session[Any], procedure: Procedure, around: StepContext) -> list[Kept]:
    """All parts that the steps keep. Raises CollectError with the step's place, NotNowError when it is no good time.

    Steps that tidy are taken at the end of those they stand among, whatever happened before; when one of them fails,
    what was kept stays good, and the session has a remark about it. What was paused is resumed, whatever happened.
    """
    taking = _Taking(session, procedure, around)
    try:
        await taking.take_all(procedure.steps)
    except CollectError as exc:
        raise exc.remarking(session.remarks) from exc.__cause__
    names = [one.part.name for one in taking.kept]
    if len(names) > len(set(names)):
        raise CollectError(FailureKind.STEP, "two parts have the same name", hint="give each step its own `as`")
    if not taking.kept and taking.passed_over:
        conditions = "; ".join(dict.fromkeys(taking.passed_over))
        raise CollectError(
            FailureKind.STEP, f"no step with a part fits: {conditions}", hint="add steps for this version"
        )
    return taking.kept


async def take_push(session: Session[Any], procedure: Procedure, around: StepContext, steps: Sequence[Step]) -> None:
    """Take steps that bring a version back, or that confirm it. Raises CollectError with the step's place."""
    try:
        await _Taking(session, procedure, around).take_all(steps)
    except CollectError as exc:
        raise exc.remarking(session.remarks) from exc.__cause__


async def resume(session: Session[Any], procedure: Procedure, around: StepContext, said: Said) -> None:
    """Say what resumes a service that was left paused, and look whether it answers, as the procedure does.

    Raises CollectError when it does not.
    """
    taking = _Taking(session, procedure, around)
    pauses = (step for _, step in walk(procedure.steps) if isinstance(step, Pause))
    written = next((step for step in pauses if _fills_to(step.resume, around.values, said)), None)
    await taking._resume(f"resuming {_words(said)}", written or Pause(says=said, resume=said))


def _fills_to(written: Said, values: dict[str, Any], said: Said) -> bool:
    try:
        return bool(fill(written, values) == said)
    except LookupError:
        return False


@dataclass
class _Taking:
    session: Session[Any]
    procedure: Procedure
    around: StepContext
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
                    await self._take(place(number, step), step)
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
            said = _words(fill(step.says, public))
        except LookupError:
            return str(step)
        return f"{step.verb} {said}"

    async def _tidy(self, place: str, step: Tidy[Any], *, well: bool) -> None:
        """A step that goes on when the round is interrupted, and whose failure is a remark."""
        try:
            self._filled(step)
            said = self._fill(step.says)
        except CollectError as exc:
            if well:  # else what it would tidy up was perhaps never begun
                self.session.remarks.append(f"{place} was left out: {exc.message}")
            return
        for earlier in self.around.leftovers.of(step.says):
            await _to_its_end(self._tidy_once(place, step, earlier))
        await _to_its_end(self._tidy_once(place, step, said))

    async def _tidy_once(self, place: str, step: Tidy[Any], said: Said) -> None:
        """Say it, or what an earlier round said in vain; that is said again at the next visit, unless it was refused.

        What is the same every time is said then in any case, and what holds a secret is not written down.
        """
        earlier = said != self._fill(step.says)
        try:
            if earlier:
                async with self._within(step.deadline, place):
                    await self._judge(await self.session.say(said, self._filled(step)), step, step.check)
            else:
                await self._take(place, step)
        except CollectError as exc:
            self.session.remarks.append(f"{exc.step} did not tidy up: {exc.message}")
            secret = any(one in _words(said) for one in self.session.secrets)
            if said != step.says and not secret and not (earlier and exc.kind in _BEARABLE):
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

    async def _take(self, place: str, step: Step) -> None:
        """One step. Steps with others inside have no time of their own: each of those has."""
        self.session.place = place
        self.repeatable = self.session.may_repeat(step.says)
        if isinstance(step, Pause):
            await self._pause(place, step)
        elif isinstance(step, Each):
            await self._each(place, step)
        elif isinstance(step, Await):
            await self._timed(place, lambda: self._awaited(step, place))
        else:
            async with self._within(step.deadline, place):
                await self._timed(place, lambda: self._single(step))

    async def _timed(self, place: str, work: Callable[[], Awaitable[tuple[bytes, Sequence[Part]]]]) -> None:
        began = monotonic()
        answer, parts = await work()
        if self.around.told:
            self.around.told(StepTaken(place, timedelta(seconds=monotonic() - began), answer, parts))

    async def _single(self, written: Step) -> tuple[bytes, Sequence[Part]]:
        step = self._filled(written)
        if isinstance(step, Pick):
            return self._pick(step), ()
        if isinstance(step, Keep | Pull):
            return await self._kept(step)
        if isinstance(step, Put):
            return await self._put(step), ()
        if isinstance(step, Judged):
            return await self._said(step), ()
        raise TypeError(step)  # all verbs were seen

    async def _kept(self, step: Keep[Any] | Pull[Any]) -> tuple[bytes, Sequence[Part]]:
        """A step that keeps something; one that is optional is left out with a remark where there is nothing."""
        try:
            answer, parts = await (self._pull(step) if isinstance(step, Pull) else self._keep(step))
        except CollectError as exc:
            if not (step.optional and (exc.absent or isinstance(step, Keep)) and exc.kind in _BEARABLE):
                raise
            self.session.remarks.append(f"{step.as_ or step.says} was left out: {exc.message}")
            return b"", ()
        self.kept += [Kept(_checked(part), step) for part in parts]
        return answer, parts

    async def _keep(self, step: Keep[Any]) -> tuple[bytes, Sequence[Part]]:
        self.session.origin = Origin()
        answer = await self._answer(step)
        await self._note_date(step, answer)
        with _failing(answer):
            content = await self._read(answer, _canonical) if step.canonical else answer.content
        return answer.content, [Part(step.as_, content)]

    async def _note_date(self, step: Keep[Any] | Pull[Any], answer: Answer) -> None:
        """When a part was made, by its own account. Where nobody can tell, that is a remark, and its age is unknown."""
        if step.dated is None:
            return
        told, now = None, self.around.clock()
        finder = Finder(step.dated) if step.dated.kind not in ("time", "name") else None
        given = step.dated, step.dated_as, self.session.origin, self.around.zone
        try:
            told = await self._read(answer, export_date, *given, asked=finder)
        except (LookupError, CollectError) as exc:
            why = str(exc.args[0])
        else:
            if told <= now + self.around.skew:
                self.session.dates.append(told)
                return
            why = f"its date, {told.isoformat(' ', 'seconds')}, is in the future"
        self.session.dates.append(None)
        self.session.remarks.append(f"the age of {step.as_ or step.says} is unknown: {why}")

    async def _said(self, step: Judged[Any]) -> bytes:
        answer = await self._answer(step)
        if isinstance(step, Clock):
            await self._tell_time(answer, step)
        return answer.content

    async def _answer(self, step: Judged[Any] | Keep[Any]) -> Answer:
        """A good answer, from which names were learnt."""
        said = self._fill(step.says)
        answer = await self._ask(said, step)
        secret, safe = self._gives_secret(said, step), self.session.changes_nothing(said)
        await self._judge(answer, step, step.check, logging_in=secret, safe=safe)
        await self._learn(answer, step)
        return answer

    async def _ask(self, said: Said, step: Asking[Any] | Keep[Any]) -> Answer:
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
                with _failing():
                    given[name] = fill(written, self.around.values)
        how = replace(step.how, environment=given) if given else step.how
        return await self.session.say(said, replace(step, how=how))

    def _gives_secret(self, said: Said, step: Asking[Any] | Keep[Any]) -> bool:
        """Whether this step types a password, as its line or as the answer to a question."""
        typed = [said] if isinstance(said, str) else []
        return any(self.session.gives_secret(one) for one in (*typed, *step.how.typed))

    async def _judge(
        self, answer: Answer, step: Step, check: Check | None = None, *, logging_in: bool = False, safe: bool = False
    ) -> None:
        """Whether it is a good answer. What a part holds is for inspection to judge, unless more is checked of it."""
        if check is None or not (check.value or check.holds or check.lacks):
            wrong = whats_wrong(answer, check)  # by how it ended alone, however long it is
        else:
            wrong = await self._read(answer, whats_wrong, check, asked=check)
        refused = False
        if wrong is None and not isinstance(step, Keep):
            own = () if self.procedure.errors is UNSET else self.procedure.errors
            line = await self._read(answer, _error_line, self.procedure, asked=own)
            if line is not None:
                wrong, refused = f'the answer is "{line}"', logging_in
        if wrong is not None and answer.status is not None and has_wrong_status(answer, check):
            raise status_failure(answer.status, answer.content, safe=safe, tail=answer.tail)
        if wrong is not None:
            raise CollectError(FailureKind.LOGIN if refused else FailureKind.STEP, wrong, tail=answer.tail)

    async def _pull(self, step: Pull[Any]) -> tuple[bytes, Sequence[Part]]:
        self.session.origin = Origin()
        parts = await self.session.pull(str(self._fill(step.says)), step.as_, step)
        await self._note_date(step, Answer(parts[0].edges if len(parts) == 1 else b""))
        if step.canonical:
            large = next((part for part in parts if part.size > LARGE), None)
            if large:
                message = f"{large.name} has {size_text(large.size)}; canonical takes {size_text(LARGE)} at most"
                raise CollectError(FailureKind.TOO_LARGE, message, hint="remove canonical from this step")
            with _failing():
                parts = [Part(part.name, await self._read(Answer(part.content), _canonical)) for part in parts]
        return b"", parts

    async def _put(self, step: Put[Any]) -> bytes:
        """Put the parts of this name, or below it, that differ; or type the lines that lead to them."""
        below = f"{step.part.rstrip('/')}/"
        named = {name: one for name, one in self.around.wanted.items() if belongs_to(name, step.part)}
        chosen = {name: one for name, one in named.items() if not one.removed}
        if not chosen:
            message = f"the version has no part {step.part}"
            raise CollectError(FailureKind.STEP, message, hint="historon show SOURCE@WHEN lists its parts")
        place = str(self._fill(step.says))
        said = b""
        for name, one in chosen.items():
            if not one.differs:
                continue
            if self.procedure.typing_lines:
                said += await self._type(step, one.lines)
                continue
            target = place if name == step.part else f"{place.rstrip('/')}/{name.removeprefix(below)}"
            answer = await self.session.put(target, self._wrapped(step, one.content), step)
            await self._judge(answer, step, step.check)
            said += answer.content
        for name in [name for name, one in named.items() if one.removed and step.remove_others]:
            await self.session.remove(f"{place.rstrip('/')}/{name.removeprefix(below)}")
        return said

    def _wrapped(self, step: Put[Any], content: bytes) -> bytes:
        """What is put of a part: itself, or a text with it in its place, without an XML declaration of its own."""
        if step.wrapped is None:
            return content
        before, _, behind = step.wrapped.partition("{content}")
        inner = _DECLARATION.sub(b"", content, count=1)
        return str(self._fill(before)).encode() + inner + str(self._fill(behind)).encode()

    async def _type(self, step: Put[Any], lines: Sequence[str]) -> bytes:
        """Type lines, each after the answer to the one before; the first that is refused ends it."""
        said = b""
        for number, line in enumerate(lines, 1):
            answer = await self.session.say(line, step)
            try:
                await self._judge(answer, step, step.check)
            except CollectError as exc:
                exc.message = f"line {number} of {len(lines)}, {line.strip()}: {exc.message}"
                raise
            if answer.content.strip():
                self.around.answers.append((line.strip(), answer.content))
            said += answer.content
        return said

    def _pick(self, step: Pick) -> bytes:
        """Give one item of a list a name."""
        with _failing():
            found = choose(self._list(step), step.where)
        if not found:
            conditions = ", ".join(f"{name} {pattern}" for name, pattern in step.where.items())
            raise CollectError(
                FailureKind.STEP, f"nothing to pick: no item of {step.from_} has {conditions or 'these'}"
            )
        newest = step.newest
        if newest is not None and all(field_of(one, newest) is None for one in found):
            raise CollectError(
                FailureKind.STEP, f'nothing to pick: none of {len(found)} in {step.from_} has "{newest}"'
            )
        item = found[0] if newest is None else self._newest([field_of(one, newest) for one in found], found)
        self.around.values[step.says] = item
        return item.encode() if isinstance(item, str) else canonical_json(item)

    def _newest(self, values: Sequence[Any], items: Sequence[Any]) -> Any:
        try:
            at, remark = newest_of(values, self.around.clock(), self.around.zone)
        except ValueError as exc:
            raise CollectError(FailureKind.STEP, f"the newest is unknown: {exc}") from exc
        if remark:
            self.session.remarks.append(remark)
        return items[at]

    def _list(self, step: Pick | Each) -> Any:
        if step.from_ not in self.around.values:
            raise LookupError(f"no step has learnt {step.from_} yet")
        return self.around.values[step.from_]

    async def _each(self, place: str, step: Each) -> None:
        with _failing():
            items = choose(self._list(step), step.where)
        if len(items) > _MOST_TURNS:
            raise CollectError(FailureKind.STEP, f"{step.from_} has {len(items)} items").at_step(place)
        for number, item in enumerate(items, 1):
            self.around.values[step.says] = item
            await self.take_all(step.steps, f"{step} {number} of {len(items)}, ")

    async def _awaited(self, written: Await[Any], place: str) -> tuple[bytes, Sequence[Part]]:
        step = self._filled(written)
        answer, wrong = await self._poll(self._fill(step.says), step, step.until, place)
        if wrong is None:
            await self._learn(answer, step)
        if wrong is None or step.or_else == "continue":
            if wrong is not None:
                self.session.remarks.append(f"continued without {step.word or step.says}: {wrong} after {step.within}")
            return answer.content, ()
        message = f"{step.word or 'the awaited answer'} did not come within {step.within}: {wrong}"
        if step.or_else == "skip":
            raise NotNowError(message)
        raise CollectError(FailureKind.TIME, message, tail=answer.tail).at_step(place)

    async def _poll(
        self, what: Said, step: Await[Any] | Pause[Any], until: Check, place: str
    ) -> tuple[Answer, str | None]:
        """Ask again and again, until all is well or time is up; returns the last answer, and what is wrong with it."""
        began, stood, last = monotonic(), monotonic(), Answer(b"")
        while True:
            try:
                async with self._within(step.deadline, place):
                    answer = await self._ask(what, step)
            except CollectError as exc:
                if exc.kind not in (FailureKind.UNREACHABLE, FailureKind.REFUSED):
                    raise
                answer = last
                wrong: str | None = exc.message  # what is awaited may be that it is there at all
            else:
                stood = monotonic() if answer.content != last.content else stood
                wrong = await self._read(answer, _not_yet, until, asked=until) or _moving(until, monotonic() - stood)
            last = answer
            if wrong is None or monotonic() - began + step.every.total_seconds() > step.within.total_seconds():
                return answer, wrong
            await asyncio.sleep(step.every.total_seconds())

    async def _pause(self, place: str, written: Pause[Any]) -> None:
        """Pause, take the steps inside, and resume, whatever happened: also when pausing itself seemed to fail."""
        step = self._filled(written)
        resume = self._fill(step.resume)
        self.around.paused(resume, True)
        try:
            async with self._within(step.deadline, place):
                await self._timed(place, lambda: self._pausing(step))
            await self.take_all(step.steps, f"{place}, ")
        finally:
            try:
                await _to_its_end(self._resume(place, step))
            except BaseException:
                self.around.paused(resume, False)
                raise
            self.around.paused(None, True)

    async def _pausing(self, step: Pause[Any]) -> tuple[bytes, Sequence[Part]]:
        answer = await self._ask(self._fill(step.says), step)
        await self._judge(answer, step)
        return answer.content, ()

    async def _resume(self, place: str, step: Pause[Any]) -> None:
        """Resume and look whether it answers again; over a fresh session where the one at hand does not help."""
        self.session.place = f"{place}, resuming"
        trouble: CollectError | None = None
        for attempt in range(_RESUMES):
            if attempt:
                await asyncio.sleep(self.procedure.retry_pause.total_seconds())
            try:
                if not attempt:
                    return await self._resumed(place, step)
                async with self.around.reopen() as fresh:
                    return await self._over(fresh)._resumed(place, step)
            except CollectError as exc:
                trouble = exc
            except OSError as exc:
                trouble = CollectError(FailureKind.STEP, exc.strerror or str(exc))
        assert trouble is not None  # noqa: S101
        left = CollectError(
            FailureKind.PAUSED,
            f"{NOT_RESUMED}: {_RESUMES} tries failed: {trouble.message}",
            hint=f"resume it by hand, now: {_words(step.resume)}",
            tail=trouble.tail,
        )
        raise left.at_step(f"{place}, resuming") from trouble

    def _over(self, session: Session[Any]) -> "_Taking":
        """The same going through a procedure over another session; remarks stay together."""
        session.remarks = self.session.remarks
        return _Taking(session, self.procedure, self.around)

    async def _resumed(self, place: str, step: Pause[Any]) -> None:
        began = monotonic()
        async with self._within(step.deadline, f"{place}, resuming"):
            answer = await self._ask(self._fill(step.resume), step)
            await self._judge(answer, step)
        if step.probe is not None and step.until is not None:
            answer, wrong = await self._poll(self._fill(step.probe), step, step.until, f"{place}, probing")
            if wrong is not None:
                message = f"after resuming, its answer was not right within {step.within}: {wrong}"
                raise CollectError(FailureKind.STEP, message, tail=answer.tail)
        if self.around.told:
            took = timedelta(seconds=monotonic() - began)
            self.around.told(StepTaken(f"{place}, resumed", took, answer.content, ()))

    async def _tell_time(self, answer: Answer, step: Clock[Any]) -> None:
        told = await self._read(answer, _told, step.format, self.around.zone)
        if told is None:
            raise CollectError(FailureKind.STEP, f"the answer has no time of the form {step.format}", tail=answer.tail)
        self.session.skew = told - self.around.clock()

    async def _learn(self, answer: Answer, step: Learning[Any] | Keep[Any]) -> None:
        """Give names to what stands in the answer."""
        for name, finder in (*step.learn.items(), *step.learn_secret.items()):
            with _failing(answer):
                self.around.values[name] = value = await self._read(answer, _found, finder, asked=finder)
            if name in step.learn_secret:
                self.around.secret.add(name)
                self.around.hide(str(value))
                self.session.secrets.add(str(value))

    async def _read(
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

    def _fill(self, said: Said) -> Said:
        with _failing():
            filled: Said = fill(said, self.around.values)
        return filled

    def _filled(self, step: S) -> S:
        """The step with values in all that is handed to a transport; what is said is filled when it is said."""
        made: dict[str, Any] = {}
        with _failing():
            if isinstance(step, Keeping):
                made["as_"] = fill(step.as_, self.around.values)
                made["ends_with"] = fill(step.ends_with, self.around.values)
            if isinstance(step, WITH_CLAUSES):
                how = step.how
                filled = {name: fill(getattr(how, name), self.around.values) for name in how.filled}
                made["how"] = replace(how, **filled)
        return replace(step, **made) if made else step

    @asynccontextmanager
    async def _within(self, deadline: Duration | None, place: str) -> AsyncIterator[None]:
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
def _failing(answer: Answer | None = None) -> Iterator[None]:
    """That something looked for is not there is a failure of the step."""
    try:
        yield
    except LookupError as exc:
        raise CollectError(FailureKind.STEP, str(exc.args[0]), tail=answer.tail if answer else b"") from exc


_BEARABLE = (FailureKind.STEP, FailureKind.PERMISSION)


async def _to_its_end(work: Awaitable[T]) -> T:
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


def _words(said: Said | None) -> str:
    """A saying as one would type it."""
    return said if isinstance(said, str) else " ".join(said or ())


def _moving(until: Check, stood: float) -> str | None:
    if until.still is None or stood >= until.still.total_seconds():
        return None
    return f"the answer still changes, or was not unchanged for {until.still}"


def _error_line(answer: Answer, procedure: Procedure) -> str | None:
    return error_line(answer.content, procedure)


def _not_yet(answer: Answer, until: Check) -> str | None:
    return whats_wrong(answer, until, strict=False)


def _found(answer: Answer, finder: Finder) -> Any:
    return find_one(finder, answer)


def _told(answer: Answer, form: str, zone: ZoneInfo) -> datetime | None:
    return told_instant(answer.content.decode("utf-8", "replace"), form, zone)


def _canonical(answer: Answer) -> bytes:
    if answer.content.lstrip()[:1] == b"<":
        return canonical_xml(answer.content)
    return canonical_json(answer.json)


def _checked(part: Part) -> Part:
    """Names of parts become file names one day: they may not lead anywhere."""
    if any(piece in _HOSTILE for piece in part.name.split("/")) or "\0" in part.name:
        raise CollectError(FailureKind.STEP, f"{part.name!r} cannot be the name of a part", hint="name it with `as`")
    return part
