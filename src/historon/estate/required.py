"""What is required of which source, and how a source stands to it by what the ledger remembers of its last check."""

import hashlib
import json
from collections.abc import Sequence
from enum import StrEnum

from historon.estate.model import Requirement

__all__ = [
    "REQUIREMENTS",
    "UNKNOWN_MARK",
    "RequirementState",
    "requirement_state",
    "rules_digest",
    "same_rules",
]

REQUIREMENTS = "requirements"  # the topic under which the ledger remembers what a source did not meet
UNKNOWN_MARK = "?"  # before the digest of what could not be known


class RequirementState(StrEnum):
    """How a source stands to what is required of it; where that cannot be known it is not well either."""

    MET = "met"
    NOT_MET = "not met"
    UNKNOWN = "unknown"


def rules_digest(rules: Sequence[Requirement]) -> str:
    """Something that is another whenever a rule is."""
    return hashlib.sha256(repr(rules).encode()).hexdigest()[:16]


def same_rules(before: str | None, rules: Sequence[Requirement]) -> bool:
    """Whether what is remembered was found out with these rules."""
    return (json.loads(before)["rules"] if before else rules_digest([])) == rules_digest(rules)


def requirement_state(remembered: str | None, rules: Sequence[Requirement]) -> RequirementState | None:
    """How a source was when it was last checked; None without rules. Whether it meets new ones is unknown."""
    if not rules:
        return None
    if remembered is None or not same_rules(remembered, rules):
        return RequirementState.UNKNOWN
    digests = [digest for known in json.loads(remembered)["unmet"].values() for digest in known]
    if any(not digest.startswith(UNKNOWN_MARK) for digest in digests):
        return RequirementState.NOT_MET
    return RequirementState.UNKNOWN if digests else RequirementState.MET
