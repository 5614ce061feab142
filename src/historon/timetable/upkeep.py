"""Duties of the service between rounds: to prune, to prove versions, and to update copies."""

from collections.abc import Sequence
from contextlib import closing, suppress
from datetime import datetime, timedelta

from historon.base.errors import HistoronError, RefusedError, StoreError
from historon.base.threads import StillBusyError, apart
from historon.copies import bring_up_to_date, note_copied, note_refused
from historon.estate import AFTER_ROUNDS, Estate
from historon.retention import PrunedByItself, prune_by_itself
from historon.store import PRUNING, Proof, note
from historon.timetable.beside import Wish
from historon.timetable.desk import LOG, Desk
from historon.timetable.monitoring import about_proof, about_pruning, pruned_event

__all__ = ["Upkeep"]

_RESTLESS = timedelta(minutes=15)  # of rounds that never end together, as a source hangs in each
_COPY, _PRUNE, _PROVE = "copying", "pruning", "proving"


class Upkeep:
    """Prunes, proves and copies: each beside everything else, and none beside one that it would disturb."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._prune, self._prove = Wish(), Wish()
        self._calm = desk.clock()  # when no round ran

    @property
    def wanted(self) -> bool:
        """Whether something waits for its turn."""
        return self._prune.wanted or self._prove.wanted

    def after_round(self, estate: Estate) -> None:
        """Wish for what the estate file wants after each round."""
        self._prune.wanted |= estate.settings.prune == AFTER_ROUNDS
        self._prove.wanted |= estate.settings.prove == AFTER_ROUNDS

    def look(self, now: datetime, *, busy: bool) -> None:
        """Begin what it is time for; `busy`: a round runs."""
        desk, estate = self._desk, self._desk.estate
        if not busy:
            self._calm = now
        # Where a round always runs, what is done between them waits no longer than this.
        calm = not busy or abs(now - self._calm) > _RESTLESS
        self._prune.look(estate, estate.settings.prune, now)
        if self._prune.wanted and calm and not desk.beside.has(_PRUNE, _COPY):
            self._prune.wanted = False
            desk.beside.begin(_PRUNE, self._prune_now(estate, now))
        self._prove.look(estate, estate.settings.prove, now)
        if self._prove.wanted and calm and not desk.beside.has(_PROVE, _PRUNE):
            self._prove.wanted = False
            desk.beside.begin(_PROVE, self._prove_now(estate, now))
        if desk.monitor.copies_wanted and calm and not desk.beside.has(_COPY, _PRUNE):
            wanted, desk.monitor.copies_wanted = desk.monitor.copies_wanted, []
            desk.beside.begin(_COPY, self._copy_all(wanted))

    async def _prune_now(self, estate: Estate, now: datetime) -> None:
        desk = self._desk

        def work() -> PrunedByItself:
            with closing(desk.open_store(estate)) as store:
                return prune_by_itself(estate, store, now)

        try:
            done = await apart("pruning", work)
        except (HistoronError, StillBusyError) as exc:
            LOG.error("pruning: %s", exc)
            return
        if done.blocked:
            LOG.warning("pruning is paused until somebody confirms it: %s", done.blocked)
        desk.watch("pruning", about_pruning(done.blocked, now))
        with suppress(StoreError):
            note(desk.store, PRUNING, done.blocked, now)
        if done.pruned:
            event = pruned_event(done, now)
            LOG.info("pruned: %s", event.message)
            desk.notifier.tell(event)
            desk.monitor.soon()

    async def _prove_now(self, estate: Estate, now: datetime) -> None:
        anew, open_store = estate.settings.prove != AFTER_ROUNDS, self._desk.open_store

        def work() -> dict[str, tuple[int, Proof]]:
            from historon.restore import prove_by_itself

            with closing(open_store(estate)) as store:
                found = prove_by_itself(estate, store, now, anew=anew)
                return {name: (store.state(name).good or 0, proof) for name, proof in found.items()}

        try:
            done = await apart("proving", work)
        except (HistoronError, StillBusyError) as exc:
            LOG.error("proving: %s", exc)
            return
        looks = [about_proof(name, version, proof, now) for name, (version, proof) in done.items()]
        self._desk.notifier.watch("proofs", looks)
        for name, (version, proof) in done.items():
            if not proof.well:
                LOG.warning("%s@%s: %s", name, version, proof)

    async def _copy_all(self, names: Sequence[str]) -> None:
        for name in names:
            await self._copy(name)

    async def _copy(self, name: str) -> None:
        desk, at = self._desk, self._desk.clock()
        try:
            copied = await apart(f"copy {name}", bring_up_to_date, desk.estate, name, at)
            note_copied(desk.store, name, at, copied)
        except (HistoronError, StillBusyError) as exc:
            desk.monitor.copy_troubles[name] = exc.message if isinstance(exc, HistoronError) else exc.words
            LOG.error("copy %s: %s", name, exc)
            note_refused(desk.store, name, exc)
            if isinstance(exc, RefusedError):
                desk.monitor.copy_refused(desk.estate, name, desk.clock())
        else:
            desk.monitor.copy_troubles.pop(name, None)
            desk.monitor.soon()
            LOG.info("copy %s: up to date, %s versions", name, copied.versions)
