"""What a retention says of a version."""

from dataclasses import dataclass

from historon.store import Version

__all__ = ["Verdict"]


@dataclass(frozen=True)
class Verdict:
    """What a retention says of a version: `rule` is why it stays, and None when it would be removed.

    `retention` is what it is called, with the budget that a version goes for, if it does; what `always` stays does so
    whatever any rule or budget says.
    """

    version: Version
    rule: str | None
    retention: str = ""
    always: bool = False

    @property
    def stays(self) -> bool:
        """Whether the version stays."""
        return self.rule is not None
