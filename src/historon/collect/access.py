"""Getting an export from a source: its account, its transport, its steps; for rounds and for rehearsals alike."""

import asyncio
import json
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractAsyncContextManager, contextmanager, nullcontext, suppress
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING, Any, cast

from historon.base.errors import HistoronError, where_raised
from historon.base.patience import within
from historon.base.processes import this_process
from historon.base.threads import StillBusyError, apart
from historon.base.workers import Workers
from historon.collect.brakes import Brake
from historon.collect.dates import skew_words
from historon.collect.failures import CollectError, FailureKind, NotNowError
from historon.collect.identities import Shown
from historon.collect.leftovers import Leftovers
from historon.collect.preconditions import check_needs
from historon.collect.slots import Record, record_of
from historon.collect.steps import resume, take_push, take_steps
from historon.collect.taking import StepContext, StepObserver, Wanted
from historon.collect.transports.interface import Account, Hop, Session, Target
from historon.collect.twice import check_agreement
from historon.estate import (
    ACCOUNT_VALUES,
    Credentials,
    Estate,
    Procedure,
    Said,
    Secret,
    SecretError,
    SecretRef,
    Source,
    Step,
    arrival_place,
    module_of,
    values_of,
)
from historon.inspection import Kept
from historon.store import PAUSED, PUSHING, SKEW, Store
from historon.versions import Masks

if TYPE_CHECKING:
    from historon.collect.transports.host_keys import Known

__all__ = ["Access", "Clock", "Export"]

Clock = Callable[[], datetime]


@dataclass(frozen=True)
class Export:
    """What a source gave: its parts, remarks, and what is to be remembered and done once the parts are on disk.

    `owed` is what its transport then settles, `waiting` how many more exports wait, and `made` when this one came.
    `dates` are when its parts were made, by their own account, None for one that does not tell. With `doubts` it is
    suspect. `wrong_clock` is a remark for a version, and for no visit that finds the same again.
    """

    kept: Sequence[Kept]
    remarks: Sequence[str] = ()
    remembered: Sequence[tuple[str, str]] = ()
    owed: str = ""
    waiting: int = 0
    made: datetime | None = None
    dates: Sequence[datetime | None] = ()
    doubts: Sequence[str] = ()
    wrong_clock: str | None = None
    shown: Shown = field(default_factory=Shown)


class Access:
    """What many sources share on the way to them: accounts fetched once, known hosts read once."""

    def __init__(self, estate: Estate, store: Store, clock: Clock, workers: Workers) -> None:
        """`workers` read answers."""
        self._estate = estate
        self._store = store
        self._clock = clock
        self._workers = workers
        self._accounts: dict[str, Account | SecretError] = {}
        self._fetching: dict[str, asyncio.Task[None]] = {}
        self._known: list[Known | None] = []  # filled at first use
        self._brakes: dict[str, Brake] = {}
        self._spool = estate.working_folder / "spool"

    async def fetch_accounts(self, sources: Iterable[Source]) -> None:
        """Fetch the secrets that these need, each once, outside the event loop: commands may take their time."""
        jumps = self._estate.jumps
        names = [
            name for source in sources for name in (source.credentials, source.via and jumps[source.via].credentials)
        ]
        await asyncio.gather(*(self._fetched(name) for name in dict.fromkeys(names) if name is not None))
        with suppress(OSError):  # reported where something large has to rest there
            self._spool.mkdir(mode=0o700, exist_ok=True)

    async def _fetched(self, name: str) -> None:
        if name not in self._fetching:
            self._fetching[name] = asyncio.create_task(self._fetch(name))
        await asyncio.shield(self._fetching[name])

    async def _fetch(self, name: str) -> None:
        try:
            self._accounts[name] = await apart(f"credentials {name}", self._account, self._estate.credentials[name])
        except SecretError as exc:
            self._accounts[name] = exc
        except StillBusyError as exc:
            self._accounts[name] = SecretError(exc.words)
        except Exception as exc:  # whatever it is, those that need no such account go on
            self._accounts[name] = SecretError(f"a defect in Historon itself: {where_raised(exc)}")

    def _account(self, written: Credentials) -> Account:
        def fetched(reference: SecretRef | None) -> Secret | None:
            return reference.resolve(self._estate.folder) if reference else None

        return Account(
            written.user,
            fetched(written.password),
            fetched(written.key),
            fetched(written.passphrase),
            fetched(written.elevation),
            self._estate.path(written.certificate) if written.certificate else None,
            written.agent,
        )

    def masks(self, source: Source, key: bytes) -> Masks:
        """The masks of the source's procedure, which also know the secrets of its account."""
        procedure = self._estate.procedure_of(source)
        account = self._accounts.get(source.credentials or "")
        known = (account.password, account.passphrase, account.elevation) if isinstance(account, Account) else ()
        known_secrets = [secret.reveal().encode() for secret in known if secret]
        if isinstance(account, Account) and account.password:
            known_secrets.append(f"{account.user}:{account.password.reveal()}".encode())  # as in basic authentication
        return Masks.of(procedure, known_secrets=known_secrets, key=key)

    async def export(self, source: Source, masks: Masks, told: StepObserver | None = None) -> Export:
        """What the source's procedure keeps; `told` hears of each step, `masks` learn the secrets that come to light.

        A failure that may pass is tried again, after growing pauses. Whatever goes wrong is a CollectError, as one bad
        source must not harm another; NotNowError says that it is no good time.
        """
        procedure = self._estate.procedure_of(source)
        troubles: list[str] = []
        while True:
            try:
                async with self._turn(source):
                    made = await self._attempt(source, masks, told)
                    if procedure.collect_twice:
                        await asyncio.sleep(procedure.retry_pause.total_seconds())
                        first, made = made, await self._attempt(source, masks, told)
                        await check_agreement(first.kept, made.kept, masks, self._workers, source.name)
            except CollectError as exc:
                troubles.append(exc.message)
                if not exc.passes or len(troubles) == procedure.tries:
                    raise exc.remarking(
                        [f"tried {len(troubles)} times"] if len(troubles) > 1 else []
                    ) from exc.__cause__
                await asyncio.sleep(procedure.retry_pause.total_seconds() * 2 ** (len(troubles) - 1))
            else:
                again = [f"succeeded only on a later try, after: {trouble}" for trouble in troubles]
                return replace(made, remarks=[*made.remarks, *again])

    async def knock(self, source: Source) -> None:
        """Connect as if nothing were known of the source's host key: CollectError tells the key that it shows."""
        from historon.collect.transports.ssh import connect

        async with connect(self._target(source), self._known_hosts(), strangers=True):
            pass

    def _turn(self, source: Source) -> AbstractAsyncContextManager[None]:
        """The source's turn to use its account."""
        name = source.credentials
        if name is None:
            return nullcontext()
        proven = record_of(self._store, source.name) is Record.GOOD
        return self._brakes.setdefault(name, Brake(name)).turn(proven=proven)

    async def _attempt(self, source: Source, masks: Masks, told: StepObserver | None) -> Export:
        with _its_own_failures():
            return await self._export(source, masks, told)

    async def _export(self, source: Source, masks: Masks, told: StepObserver | None) -> Export:
        target = self._target(source)
        procedure = target.procedure
        check_needs(self._estate, procedure)
        around = self._step_context(source, target, masks, told)
        session: Session[Any] | None = None
        try:
            async with within(procedure.deadline), self._open(target) as session:
                if source.credentials and procedure.logs_in_at_once:
                    await self._brakes[source.credentials].was_let_in()
                kept = await take_steps(session, procedure, around)
            if source.credentials:
                await self._brakes[source.credentials].was_let_in()
        except TimeoutError as exc:
            late = CollectError(
                FailureKind.TIME,
                f"timed out after {procedure.deadline}, the procedure's deadline",
                tail=session.tail if session else b"",
            )
            raise late.at_step(session.place if session else "connecting and logging in") from exc
        skew = None
        if session.skew is not None and source.clock is None:
            skew = skew_words(session.skew, self._estate.settings.skew)
        remembered = [*session.remembered.items()]
        if self._store.recall(source.name, PUSHING):
            remembered.append((PUSHING, ""))  # whatever a push left is known again once this export is on disk
        if session.skew is not None:
            remembered.append((SKEW, str(session.skew.total_seconds())))
        return Export(
            kept,
            session.remarks,
            remembered,
            session.owed,
            session.waiting,
            session.made,
            session.dates,
            session.doubts,
            skew,
            target.shown,
        )

    def _step_context(
        self, source: Source, target: Target[Any], masks: Masks, told: StepObserver | None
    ) -> StepContext:
        account = target.account
        values = values_of(source, target.procedure, account.user if account else "", self._clock())
        secrets = [(name, getattr(account, name, None)) for name in ACCOUNT_VALUES]
        return StepContext(
            source=source.name,
            workers=self._workers,
            values={**values, **{name: secret.reveal() for name, secret in secrets if secret}},
            clock=self._clock,
            zone=self._estate.zone,
            skew=self._estate.settings.skew,
            reopen=lambda: self._open(target),
            hide=lambda secret: masks.also(secret.encode()),
            told=told,
            leftovers=Leftovers(self._store, source.name),
            paused=lambda resume, at_it: self._note_pause(source, target.procedure, resume, at_it=at_it),
        )

    def _note_pause(self, source: Source, procedure: Procedure, resume: Said | None, *, at_it: bool) -> None:
        """Put on record that a source is paused, how to resume it and who is at it, or that it is no more."""
        now = self._clock()
        note = {
            "resume": resume,
            "since": now.isoformat(),
            "until": (now + procedure.deadline).isoformat(),
            "by": this_process() if at_it else "",
        }
        self._store.remember(source.name, PAUSED, json.dumps(note) if resume is not None else "")

    async def resume(self, source: Source, said: Said) -> None:
        """Resume a service that was left paused, over a session of its own. CollectError when it does not come back."""
        target = self._target(source)
        around = self._step_context(source, target, Masks(), None)
        with _its_own_failures():
            try:
                async with within(target.procedure.deadline), self._open(target) as session:
                    await resume(session, target.procedure, around, said)
            except TimeoutError as exc:
                raise CollectError(FailureKind.TIME, f"timed out after {target.procedure.deadline}") from exc

    async def push(
        self,
        source: Source,
        masks: Masks,
        wanted: Mapping[str, Wanted],
        told: StepObserver | None,
        answers: list[tuple[str, bytes]],
    ) -> None:
        """Take the steps that push a version, once: CollectError where they did not end well.

        What was answered to lines that were typed is added to `answers`. What confirms them is said over a fresh
        connection: that the source can be reached is shown by it.
        """
        procedure = self._estate.procedure_of(source)
        async with self._turn(source):
            for steps in filter(None, (procedure.push, procedure.push_confirm)):
                with _its_own_failures():
                    await self._push(source, masks, wanted, told, steps, answers)

    async def _push(
        self,
        source: Source,
        masks: Masks,
        wanted: Mapping[str, Wanted],
        told: StepObserver | None,
        steps: Sequence[Step],
        answers: list[tuple[str, bytes]],
    ) -> None:
        target = self._target(source)
        around = self._step_context(source, target, masks, told)
        around.wanted, around.answers = wanted, answers
        try:
            async with within(target.procedure.deadline), self._open(target) as session:
                if source.credentials:
                    await self._brakes[source.credentials].was_let_in()
                await take_push(session, target.procedure, around, steps)
        except TimeoutError as exc:
            message = f"timed out after {target.procedure.deadline}, the procedure's deadline"
            raise CollectError(FailureKind.TIME, message) from exc

    async def settle(self, source: Source, owed: str) -> None:
        """Do what is owed to a source for an export that is on disk. CollectError, OSError when it cannot be done."""
        settling = module_of(self._estate.procedure_of(source)).settle
        await apart(source.name, settling, self._target(source), owed)

    def _target(self, source: Source) -> Target[Any]:
        hop = None
        if source.via is not None:
            jump = self._estate.jumps[source.via]
            account = self._found_account(jump.credentials)
            assert account is not None  # noqa: S101 (a jump always has credentials)
            hop = Hop(source.via, jump, account)
        return Target(
            source,
            self._estate.procedure_of(source),
            self._found_account(source.credentials),
            self._estate.folder,
            self._spool,
            lambda topic: self._store.recall(source.name, topic),
            self._clock,
            hop,
            partial(self._rivals, source),
        )

    def _rivals(self, source: Source) -> Iterator[Target[Any]]:
        """The other sources whose exports arrive where this one's do."""
        place = arrival_place(source, self._estate.procedure_of(source))
        for other in self._estate.sources.values():
            with suppress(LookupError, CollectError):
                if other.name != source.name and place == arrival_place(other, self._estate.procedure_of(other)):
                    yield self._target(other)

    def _found_account(self, name: str | None) -> Account | None:
        account = self._accounts.get(name) if name else None
        if isinstance(account, SecretError):
            raise CollectError(FailureKind.SETUP, f"[credentials.{name}] {account.message}", hint=account.hint)
        return account

    def _open(self, target: Target[Any]) -> AbstractAsyncContextManager[Session[Any]]:
        known = self._known_hosts() if target.procedure.over_ssh else None
        return cast(AbstractAsyncContextManager[Session[Any]], module_of(target.procedure).open_session(target, known))

    def _known_hosts(self) -> "Known | None":
        if not self._known:
            from historon.collect.transports.host_keys import known_hosts

            self._known.append(known_hosts(self._estate.path(self._estate.settings.known_hosts)))
        return self._known[0]


@contextmanager
def _its_own_failures() -> Iterator[None]:
    """Whatever goes wrong with a source is reported as a CollectError, as one bad source must not harm another."""
    try:
        yield
    except (CollectError, NotNowError):
        raise
    except HistoronError as exc:
        raise CollectError(FailureKind.SETUP, exc.message, hint=exc.hint) from exc
    except OSError as exc:
        raise CollectError(FailureKind.STEP, exc.strerror or str(exc)) from exc
    except Exception as exc:
        raise CollectError(FailureKind.DEFECT, f"a defect in Historon itself: {where_raised(exc)}") from exc
