"""The parts that changed, as files that go with a mail: masked unless the administrator said otherwise."""

from collections.abc import Iterable, Iterator

from historon.base.errors import StoreError
from historon.base.quantities import size_text
from historon.estate import Attaching, Channel, Estate
from historon.notices.events import Event
from historon.notices.letters import Attachment
from historon.notices.rendering import visible
from historon.store import Store
from historon.versions import Masks

__all__ = ["attached"]

_UNMASKED = "Attachments are not masked: they may contain secrets."


def attached(
    channel: Channel, events: Iterable[Event], estate: Estate, store: Store
) -> tuple[list[Attachment], list[str]]:
    """What to attach, and remarks: on what was left out, and that secrets may be among it."""
    files: list[Attachment] = []
    remarks: list[str] = []
    attaching = channel.attaching
    if attaching is None:
        return files, remarks
    room = int(attaching.at_most)
    for event in events:
        if event.kind != "changed" or event.source is None or event.version is None:
            continue
        for name, size in _changed_parts(event, store):
            content = None
            if size <= room:
                content = _content(attaching, event.source, event.version, name, estate, store)
            if content is None or len(content) > room:
                why = f"more than the {size_text(attaching.at_most)} allowed" if size > room else "it cannot be masked"
                remarks.append(f"Not attached: {event.source} {name}, {why}.")
                continue
            room -= len(content)
            files.append(Attachment(visible(f"{event.source}-{event.version}-{name.replace('/', '-')}"), content))
    if files and attaching.unmasked:
        remarks.insert(0, _UNMASKED)
    return files, remarks


def _changed_parts(event: Event, store: Store) -> Iterator[tuple[str, int]]:
    """Name and size of the parts that this version changed, and that are still there."""
    changed = {line.part for line in event.lines}
    try:
        parts = store.parts(event.source or "", event.version or 0)
    except StoreError:
        return
    yield from ((part.name, part.size) for part in parts if part.name in changed)


def _content(attaching: Attaching, source: str, version: int, name: str, estate: Estate, store: Store) -> bytes | None:
    """The content as it may be sent; None when it cannot be read, or is nothing that could be masked."""
    try:
        content = next(store.read(part) for part in store.parts(source, version) if part.name == name)
    except StoreError:
        return None
    if attaching.unmasked:
        return content
    known = estate.sources.get(source)
    if known is None or b"\0" in content:
        return None
    return Masks.of(estate.procedure_of(known), key=store.fingerprint_key()).hide(content)
