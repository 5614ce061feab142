"""Looking over what is stored: a text in all sources, what most sources have, what is required of them."""

from collections.abc import Iterator, Sequence
from functools import lru_cache, partial

from historon.api.context import Opened
from historon.api.results import Found, Required
from historon.base.bounds import TooHeavyError
from historon.base.errors import UsageError
from historon.compare import large_archives
from historon.estate import Source
from historon.insight import Query, Reader, Typical, Unmet, find, find_ever, typical, unmet
from historon.versions import Masks, Reference, contents_of, is_binary, resolve

__all__ = ["checked_query", "found_at", "found_ever", "required_of", "typical_of"]

_FEWEST_ALIKE = 3  # sources from which on it can be known what most of them have


def checked_query(text: str, *, expression: bool, exact_case: bool) -> Query:
    """The query; UsageError says what is wrong with it."""
    query = Query(text, expression=expression, exact_case=exact_case)
    if not text or "\n" in text:
        raise UsageError("a text to find is part of one line", hint="historon find 10.20.0.9")
    try:
        query.pattern()
    except ValueError as exc:
        raise UsageError(f'"{text}": {exc}', hint="omit -e to search for the text literally") from exc
    return query


def found_at(opened: Opened, names: Sequence[str], at: str | None, query: Query, *, reveal: bool) -> Found:
    """Where a query stands in the latest version of each source, or in the one of a moment."""
    masks = lru_cache(partial(opened.masks, reveal=reveal))
    search = find(opened.store, _chosen(opened, names, at), query, masks)
    return Found(search.hits, search.closed, len(names))


def found_ever(opened: Opened, names: Sequence[str], query: Query, *, reveal: bool) -> Found:
    """Where a query ever was, each stay of a line with its beginning and end."""
    hits, closed = [], {}
    for name in names:
        history = [version for version in opened.store.versions(name) if version.good]
        search = find_ever(opened.store, history, query, opened.masks(name, reveal=reveal))
        hits += search.hits
        closed.update(search.closed)
    return Found(hits, closed, len(names))


def _chosen(opened: Opened, names: Sequence[str], at: str | None) -> Iterator[tuple[str, int]]:
    """The version of each source that is looked at; sources that had none by then are left out."""
    if at is None:
        states = opened.store.states()
        for name in names:
            good = states[name].good if name in states else None
            if good is not None:
                yield name, good
        return
    Reference.parse(f"x@{at}")
    for name in names:
        try:
            version = resolve(opened.store, Reference(name, at), now=opened.clock(), zone=opened.zone)
        except UsageError:
            if len(names) == 1:
                raise
            continue
        yield name, version.number


def typical_of(opened: Opened, sources: Sequence[Source]) -> Typical:
    """How each of these sources differs from what most of them have; UsageError where too few have a version."""
    contents: dict[str, dict[str, bytes]] = {}
    readers, outlines = {}, {}
    for source in sources:
        good = opened.store.state(source.name).good
        if good is None:
            continue
        masks = opened.masks(source.name)
        try:
            parts = contents_of(opened.store, source.name, good)
        except TooHeavyError:
            continue
        contents[source.name] = {name: _telling_lines(masks, content) for name, content in parts.items()}
        outlines[source.name] = opened.described.procedure_of(source).outline
        texts = [one for one in contents[source.name].values() if not is_binary(one)]
        readers[source.name] = Reader(source.own_names, texts, numbers=False)
    if len(contents) < _FEWEST_ALIKE:
        number = f"{len(contents)} source{'s' * (len(contents) != 1)}"
        raise UsageError(f"{number} with a version are too few for a majority", hint="widen --where")
    return typical(contents, readers, outlines)


def _telling_lines(masks: Masks, content: bytes) -> bytes:
    """A content fit for eyes, without the lines that are noise."""
    lines = masks.hide(content).split(b"\n")
    return b"\n".join(line for line in lines if masks.essence(line) is not None)


def required_of(opened: Opened, sources: Sequence[Source]) -> list[Required]:
    """How the sources of which something is required stand to it, by their latest good versions."""
    found = []
    for source in sources:
        rules = opened.described.requirements_of(source)
        if not rules:
            continue
        good = opened.store.state(source.name).good
        told = None
        if good is not None:
            try:
                with large_archives(opened.store, source.name, good) as large:
                    contents = contents_of(opened.store, source.name, good)
                    told = unmet(rules, contents, opened.masks(source.name), large)
            except TooHeavyError as exc:
                told = [Unmet(rule.name, unknown=exc.message, why=rule.why) for rule in rules]
        found.append(Required(source, rules, told))
    return found
