"""What is written in an estate file and would have no effect: it is a mistake, and reported when the file is read."""

from collections.abc import Iterable, Iterator

from historon.estate.checking import Parts, Path, Problem
from historon.estate.model import Credentials
from historon.estate.procedures import Procedure
from historon.estate.table import nearest
from historon.estate.values import asked_values, is_built_in

__all__ = ["problems_without_effect"]


def problems_without_effect(file: Parts) -> Iterator[Problem]:
    """Each key that nothing would ever look at, with its place."""
    yield from _value_problems(file)
    yield from _unused_values(file)
    yield from _spellings(file)
    yield from _identity_problems(file)
    yield from _account_problems(file)
    yield from _label_problems(file)


def _label_problems(file: Parts) -> Iterator[Problem]:
    """Labels that no source has, as far as all of them can be read."""
    sources = [one for one in file.sources if one is not None]
    if file.estate is None or not sources or len(sources) < len(file.sources):
        return
    labels = {label for source in sources for label in source.labels}
    for label in file.estate.at_once_by:
        if label not in labels:
            yield Problem(("estate", "at_once_by"), f'no source has the label "{label}"', nearest(label, labels))


_OF_SSH = ("host_key", "legacy")
_OF_TLS = ("certificate", "authority")
_OF_EITHER = ("identity",)


def _identity_problems(file: Parts) -> Iterator[Problem]:
    """What says how a source is known, and is not looked at over its transport."""
    for index, source in enumerate(file.sources):
        procedure = file.procedures.get(source.procedure) if source else None
        if procedure is None:
            continue
        idle: tuple[str, ...] = ()
        if not procedure.over_ssh:
            idle += _OF_SSH
        if not procedure.by_certificate:
            idle += _OF_TLS
        if not procedure.over_ssh and not procedure.by_certificate:
            idle += _OF_EITHER
        for key in idle:
            if getattr(source, key):
                yield Problem(("sources", index, key), f"has no effect over {procedure.over}", "remove it")


def _value_problems(file: Parts) -> Iterator[Problem]:
    """Values that would never be used, as Historon gives those of this name itself."""
    tables: list[tuple[Path, Iterable[str]]] = [
        (("sources", index, "values"), source.values) for index, source in enumerate(file.sources) if source
    ]
    tables += [(("procedures", name, "values"), one.values) for name, one in file.procedures.items() if one]
    for path, values in tables:
        for name in values:
            if is_built_in(name):
                problem = f"{{{name}}} is set by Historon and cannot be replaced"
                yield Problem(path, problem, "give the value another name")


def _unused_values(file: Parts) -> Iterator[Problem]:
    """Values of sources that no step of their procedure asks for."""
    for index, source in enumerate(file.sources):
        procedure = file.procedures.get(source.procedure) if source else None
        if source is None or procedure is None or not source.values:
            continue
        asked = asked_values(procedure)
        for name in source.values:
            if name not in asked and not is_built_in(name):
                problem = f"no step of the procedure {source.procedure} uses {{{name}}}"
                yield Problem(("sources", index, "values"), problem, nearest(name, asked))


def _spellings(file: Parts) -> Iterator[Problem]:
    """Labels and values of them that differ in capitals or blanks alone: they would be two."""
    labels: dict[str, str] = {}
    values: dict[tuple[str, str], str] = {}
    for index, source in enumerate(file.sources):
        for label, value in source.labels.items() if source else ():
            first = labels.setdefault(_folded(label), label)
            same = values.setdefault((_folded(label), _folded(value)), value)
            for one, other in ((first, label), (same, value)):
                if one != other:
                    problem = f'"{other}" is written "{one}" elsewhere'
                    yield Problem(("sources", index, "labels"), problem, "use one spelling")


def _folded(text: str) -> str:
    return " ".join(text.casefold().split())


def _account_problems(file: Parts) -> Iterator[Problem]:
    """What accounts hold that nothing would ever use: none of the transports that log in with them, nor any step."""
    users: dict[str, list[Procedure]] = {}
    elsewhere = {jump.credentials for jump in file.jumps.values() if jump}
    elsewhere |= {one.account for one in (*file.channels.values(), *file.copies.values()) if one and one.account}
    for source in file.sources:
        procedure = file.procedures.get(source.procedure) if source else None
        if source and procedure and source.credentials:
            users.setdefault(source.credentials, []).append(procedure)
    for name, account in file.credentials.items():
        procedures = {id(one): one for one in users.get(name, ())}.values()
        if not account or not procedures or name in elsewhere:
            continue
        for key in ("key", "passphrase", "certificate", "agent"):  # passwords are values that steps may ask for
            if getattr(account, key) and not any(_uses(one, account, key) for one in procedures):
                over = ", ".join(sorted({one.over for one in procedures}))
                yield Problem(("credentials", name, key), f"is used by none of its sources (over {over})", "remove it")


def _uses(procedure: Procedure, account: Credentials, key: str) -> bool:
    has_key, has_certificate = account.key is not None, account.certificate is not None
    return procedure.logs_in_with(key, has_key=has_key, has_certificate=has_certificate)
