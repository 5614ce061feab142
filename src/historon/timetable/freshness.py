"""How old each source's last good version is, against how old it may get."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, time, timedelta
from enum import StrEnum

from historon.estate import REQUIREMENTS, Estate, Freeze, RequirementState, Source, requirement_state
from historon.store import DATED, NEVER_TRIED, NO_DATE, Outcome, Proof, SourceState, Store, last_proofs
from historon.timetable.due import frozen

__all__ = ["Freshness", "SourceStatus", "statuses"]

_AGEING = 0.8  # of max_age
_APART = timedelta(minutes=5)  # by which clocks of machines that are set may differ
_LONGEST_FREEZE = timedelta(days=30)


class Freshness(StrEnum):
    """The age of a source's last good version against its `max_age`, the worst first.

    Of one that was confirmed in the future, by this machine's clock, it is `unknown`: one of the two is wrong. So it is
    of one that should tell when it was made, and did not.
    Older than that in a planned silence is `frozen`, for 30 days at most: a freeze by a slip of the pen hides nothing.
    Only sources with a `max_age` are judged: one without it has `no limit`, and one that is not collected on purpose is
    `skipped`, whatever its limit.
    """

    UNKNOWN = "unknown"
    NEVER = "never"
    OVERDUE = "overdue"
    FROZEN = "frozen"
    AGEING = "ageing"
    SKIPPED = "skipped"
    FRESH = "fresh"
    NO_LIMIT = "no limit"

    @property
    def trouble(self) -> bool:
        """Whether somebody has to do something."""
        return self in (Freshness.UNKNOWN, Freshness.NEVER, Freshness.OVERDUE)


@dataclass(frozen=True)
class SourceStatus:
    """One source on the board. `age` is the time since its last good version was made or last confirmed.

    Where the export tells when it was made, that is `dated`, and its age counts from it.

    `requirements` is how its last export was to what is required of it; None where nothing is. `proof` is what was
    shown of its last good version, or that it was never tried; None where its procedure has no proof. `freeze` is the
    one that holds it now, if any.
    """

    source: Source
    freshness: Freshness
    age: timedelta | None
    state: SourceState
    requirements: RequirementState | None = None
    proof: Proof | None = None
    freeze: Freeze | None = None
    dated: datetime | None = None

    @property
    def made_no_more(self) -> bool:
        """Whether it is collected in time, and what is collected is an export that was made too long ago."""
        limit, confirmed = self.source.max_age, self.state.confirmed_at
        if self.freshness is not Freshness.OVERDUE or self.dated is None or not limit or not confirmed or not self.age:
            return False
        return self.age - (confirmed - self.dated) <= limit

    @property
    def ailing(self) -> bool:
        """Whether the last try went wrong, whatever the age of its last good version."""
        return self.freshness is not Freshness.SKIPPED and self.state.outcome in (Outcome.FAILED, Outcome.SUSPECT)

    @property
    def well(self) -> bool:
        """Whether neither its age nor its last try needs action, and it is known to be as it must be.

        A last good version that was tried and is not proven would not do.
        """
        return not self.freshness.trouble and not self.ailing and self.as_required and not self.unproven

    @property
    def unproven(self) -> bool:
        """Whether its last good version was tried, and is not known to do."""
        return self.proof is not None and not self.proof.well and self.proof.verdict != NEVER_TRIED

    @property
    def as_required(self) -> bool:
        """Whether it is known to meet what is required of it, or nothing is."""
        return self.freshness is Freshness.SKIPPED or self.requirements in (None, RequirementState.MET)


def statuses(estate: Estate, sources: Sequence[Source], store: Store, now: datetime) -> list[SourceStatus]:
    """The board: those in trouble first, then those whose last try went wrong, those not as required, then by name."""
    states = store.states()
    remembered = store.recall_all(REQUIREMENTS) if estate.requirements else {}
    proofs = last_proofs(store, estate.proof_digests)
    dates = store.recall_all(DATED)
    board = []
    for source in sources:
        state = states.get(source.name, SourceState(source.name))
        told = dates.get(source.name)
        dated = datetime.fromisoformat(told) if told and told != NO_DATE else None
        age = now - min(state.confirmed_at, dated or state.confirmed_at) if state.confirmed_at else None
        stands = requirement_state(remembered.get(source.name), estate.requirements_of(source))
        freeze = frozen(estate, source, now) if estate.freezes else None
        skipped = estate.is_skipped(source, now)
        freshness = Freshness.SKIPPED if skipped else _freshness(source, age, known=told != NO_DATE)
        if freeze is not None and freshness is Freshness.OVERDUE and _is_planned(estate, freeze, source, state, now):
            freshness = Freshness.FROZEN
        if stands is RequirementState.MET and freshness in (Freshness.OVERDUE, Freshness.UNKNOWN):
            stands = RequirementState.UNKNOWN  # it met them when it was collected last; what it is now nobody knows
        proof = proofs.get(source.name)
        if proof is None and source.name in estate.proof_digests and state.good is not None:
            proof = Proof(NEVER_TRIED, "", 0.0)
        board.append(SourceStatus(source, freshness, age, state, stands, proof, freeze, dated))
    order = list(Freshness)

    def rank(one: SourceStatus) -> tuple[object, ...]:
        known_well = one.as_required, not one.unproven
        return order.index(one.freshness), not one.ailing, *known_well, one.source.name

    return sorted(board, key=rank)


def _is_planned(estate: Estate, freeze: Freeze, source: Source, state: SourceState, now: datetime) -> bool:
    """Whether a source is older than its max_age because of the freeze alone, which has not lasted too long."""
    began = datetime.combine(freeze.from_, time(), estate.zone)
    if now - began > _LONGEST_FREEZE or state.confirmed_at is None or source.max_age is None:
        return False
    return began - state.confirmed_at <= source.max_age


def _freshness(source: Source, age: timedelta | None, *, known: bool) -> Freshness:
    if source.max_age is None:
        return Freshness.NO_LIMIT
    if age is None:
        return Freshness.NEVER
    if age < -_APART or not known:
        return Freshness.UNKNOWN
    if age > source.max_age:
        return Freshness.OVERDUE
    return Freshness.AGEING if age > source.max_age * _AGEING else Freshness.FRESH
