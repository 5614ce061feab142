"""Which sources a command is about: by name, by label, or all."""

from collections.abc import Sequence

from historon.base.errors import UsageError
from historon.estate.model import Estate, Source
from historon.estate.table import nearest

__all__ = ["select"]


def select(estate: Estate, names: Sequence[str] = (), where: Sequence[str] = ()) -> list[Source]:
    """The sources of these names (all when none), narrowed by `label=value`; UsageError when one is not there."""
    for name in names:
        if name not in estate.sources:
            raise UsageError(f'there is no source "{name}"', hint=nearest(name, estate.sources))
    chosen = [estate.sources[name] for name in dict.fromkeys(names)] or list(estate.sources.values())
    for condition in where:
        label, equals, value = condition.partition("=")
        known = {key for source in estate.sources.values() for key in source.labels}
        if not equals or label not in known:
            hint = nearest(label, known) if equals else "write --where label=value"
            raise UsageError(f'--where {condition}: no source has the label "{label}"', hint=hint)
        values = {source.labels[label] for source in estate.sources.values() if label in source.labels}
        if value not in values:
            raise UsageError(f'--where {condition}: no source has {label} "{value}"', hint=nearest(value, values))
        chosen = [source for source in chosen if source.labels.get(label) == value]
    if not chosen and where:
        raise UsageError(f"no source has {' and '.join(where)}", hint="historon sources shows the labels")
    return chosen
