"""How much may be removed at once without a person: a slip of the pen in a retention must not empty a store."""

from collections.abc import Mapping, Sequence

from historon.estate import Share
from historon.retention.verdicts import Verdict

__all__ = ["too_many", "too_many_of"]

_OF_A_SOURCE = 0.5
_FEW = 2  # of a source that may be removed whatever share they are


def too_many(plans: Mapping[str, Sequence[Verdict]], limit: Share) -> str:
    """Why a person has to look at these plans first; empty when nobody has to.

    Of all versions of these sources so much may be removed as the share says, or one of each source.
    """
    number = sum(not one.stays for verdicts in plans.values() for one in verdicts)
    all_of_them = sum(map(len, plans.values()))
    most = max(len(plans), int(limit * all_of_them))
    if number > most:
        return f"{number:,} of {all_of_them:,} versions would be removed at once, more than the {most:,} of prune_limit"
    return ""


def too_many_of(plans: Mapping[str, Sequence[Verdict]], limit: Share) -> dict[str, str]:
    """The sources of which more than half would be removed, each in words; `limit` may allow more than half."""
    found = {}
    for name, verdicts in plans.items():
        number = sum(not one.stays for one in verdicts)
        if number > max(_FEW, len(verdicts) * max(float(limit), _OF_A_SOURCE)):
            found[name] = f"{number:,} of {len(verdicts):,} versions of {name} would be removed at once"
    return found
