"""Getting an export from a source: its account, its transport, its steps; for rounds and for rehearsals alike."""

import asyncio
from collections.abc import Callable, Iterable
from contextlib import AbstractAsyncContextManager
from datetime import datetime
from typing import TYPE_CHECKING

from historon.collect.failures import CollectError, FailureKind
from historon.collect.local import open_local
from historon.collect.steps import StepObserver, take_steps
from historon.collect.transport import Account, Session, Target
from historon.compare import Masks
from historon.errors import HistoronError
from historon.estate import Credentials, Estate, Secret, SecretError, Source, fill_steps, values_of
from historon.inspection import Kept

if TYPE_CHECKING:
    from historon.collect.host_keys import Known

__all__ = ["Clock", "Reach"]

Clock = Callable[[], datetime]


class Reach:
    """What many sources share on the way to them: accounts fetched once, known hosts read once."""

    def __init__(self, estate: Estate, clock: Clock) -> None:
        self._estate = estate
        self._clock = clock
        self._accounts: dict[str, Account | SecretError] = {}
        self._known: list[Known | None] = []  # filled at first use

    async def fetch_accounts(self, sources: Iterable[Source]) -> None:
        """Fetch each secret once, outside the event loop: commands may take their time."""
        for name in dict.fromkeys(source.credentials for source in sources):
            if name is not None:
                try:
                    self._accounts[name] = await asyncio.to_thread(self._account, self._estate.credentials[name])
                except SecretError as exc:
                    self._accounts[name] = exc

    def _account(self, written: Credentials) -> Account:
        fetched: list[Secret | None] = [
            reference.resolve(self._estate.folder) if reference else None
            for reference in (written.password, written.key, written.passphrase)
        ]
        return Account(written.user, *fetched)

    def masks(self, source: Source, key: bytes) -> Masks:
        """The masks of the source's procedure, which also know the secrets of its account."""
        procedure = self._estate.procedure_of(source)
        account = self._accounts.get(source.credentials or "")
        secrets = (account.password, account.passphrase) if isinstance(account, Account) else ()
        literal = [secret.reveal().encode() for secret in secrets if secret]
        return Masks(procedure.noise, procedure.secret, literal=literal, key=key)

    async def export(self, source: Source, told: StepObserver | None = None) -> tuple[list[Kept], list[str]]:
        """What the source's procedure keeps, and remarks about it; `told` hears of each step.

        A failure that may pass is tried again, after growing pauses. Whatever goes wrong is a CollectError, as one bad
        source must not harm another.
        """
        procedure = self._estate.procedure_of(source)
        troubles: list[str] = []
        while True:
            try:
                kept, remarks = await self._attempt(source, told)
            except CollectError as exc:
                troubles.append(exc.message)
                if not exc.kind.passes or len(troubles) == procedure.tries:
                    raise exc.remarking(
                        [f"tried {len(troubles)} times"] if len(troubles) > 1 else []
                    ) from exc.__cause__
                await asyncio.sleep(procedure.pause.total_seconds() * 2 ** (len(troubles) - 1))
            else:
                return kept, [*remarks, *(f"well only when tried again, after: {trouble}" for trouble in troubles)]

    async def _attempt(self, source: Source, told: StepObserver | None) -> tuple[list[Kept], list[str]]:
        """One try, with whatever goes wrong as a CollectError."""
        try:
            return await self._export(source, told)
        except CollectError:
            raise
        except HistoronError as exc:
            raise CollectError(FailureKind.SETUP, exc.message, hint=exc.hint) from exc
        except OSError as exc:
            raise CollectError(FailureKind.STEP, exc.strerror or str(exc)) from exc
        except Exception as exc:
            message = f"unexpected {type(exc).__name__}: {exc}"
            raise CollectError(FailureKind.STEP, message, hint="please report this") from exc

    async def _export(self, source: Source, told: StepObserver | None) -> tuple[list[Kept], list[str]]:
        procedure = self._estate.procedure_of(source)
        account = self._accounts.get(source.credentials) if source.credentials else None
        if isinstance(account, SecretError):
            message = f"credentials {source.credentials}: {account.message}"
            raise CollectError(FailureKind.SETUP, message, hint=account.hint) from account
        values = values_of(source, account.user if account else "", self._clock())
        target = Target(source, fill_steps(procedure, values), account, self._estate.folder)
        session: Session | None = None
        try:
            async with asyncio.timeout(procedure.deadline.total_seconds()), self._open(target) as session:
                return await take_steps(session, target.procedure, told), session.remarks
        except TimeoutError as exc:
            late = CollectError(
                FailureKind.TIME,
                f"not done within {procedure.deadline}, the procedure's deadline",
                tail=session.tail if session else b"",
            )
            raise late.at_step(session.place if session else "connecting and logging in") from exc

    def _open(self, target: Target) -> AbstractAsyncContextManager[Session]:
        if target.procedure.over == "local":
            return open_local(target)
        # asyncssh takes half a second to import; a round without SSH does not need it.
        from historon.collect.host_keys import known_hosts
        from historon.collect.ssh_exec import open_exec
        from historon.collect.ssh_shell import open_shell

        if not self._known:
            self._known.append(known_hosts(self._estate.path(self._estate.settings.known_hosts)))
        opening = {"ssh-shell": open_shell, "ssh-exec": open_exec}[target.procedure.over]
        return opening(target, self._known[0])
