"""Reaching sources: rounds, procedures and their steps, one module for each transport."""

from typing import TYPE_CHECKING

from historon.base.lazily import lazily

if TYPE_CHECKING:
    from historon.collect.access import Clock
    from historon.collect.events import Failure, Observer, RoundReport, SourceBegan, SourceResult, SourceStep, cause_of
    from historon.collect.failures import CollectError, FailureKind, OfferedKey
    from historon.collect.judging import ChangedLine, Judged, judge, question_about
    from historon.collect.pinning import Identity, shown_identity
    from historon.collect.pushing import push_parts
    from historon.collect.rehearsal import Rehearsal, rehearse
    from historon.collect.round import Pen, run_round, unfinished_sources
    from historon.collect.slots import Slots
    from historon.collect.taking import StepTaken, Wanted
    from historon.collect.unfinished import Resumed, owing, resume_paused, settle_owed
    from historon.collect.vouching import vouch, withdraw_vouch

__all__ = [
    "ChangedLine",
    "Clock",
    "CollectError",
    "Failure",
    "FailureKind",
    "Identity",
    "Judged",
    "Observer",
    "OfferedKey",
    "Pen",
    "Rehearsal",
    "Resumed",
    "RoundReport",
    "Slots",
    "SourceBegan",
    "SourceResult",
    "SourceStep",
    "StepTaken",
    "Wanted",
    "cause_of",
    "judge",
    "owing",
    "push_parts",
    "question_about",
    "rehearse",
    "resume_paused",
    "run_round",
    "settle_owed",
    "shown_identity",
    "unfinished_sources",
    "vouch",
    "withdraw_vouch",
]

__getattr__ = lazily(
    __name__,
    {
        "access": ["Clock"],
        "events": ["Failure", "Observer", "RoundReport", "SourceBegan", "SourceResult", "SourceStep", "cause_of"],
        "failures": ["CollectError", "FailureKind", "OfferedKey"],
        "judging": ["ChangedLine", "Judged", "judge", "question_about"],
        "pinning": ["Identity", "shown_identity"],
        "pushing": ["push_parts"],
        "rehearsal": ["Rehearsal", "rehearse"],
        "round": ["Pen", "run_round", "unfinished_sources"],
        "slots": ["Slots"],
        "taking": ["StepTaken", "Wanted"],
        "unfinished": ["Resumed", "owing", "resume_paused", "settle_owed"],
        "vouching": ["vouch", "withdraw_vouch"],
    },
)
