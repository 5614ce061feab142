"""What changed between two documents: by their trees, whatever the order of attributes and the white space."""

from collections.abc import Iterator, Sequence

from historon.compare.changes import Change, How
from historon.compare.documents import Document, Node, Notation
from historon.compare.lines import align, longest_rising
from historon.versions import Masks

__all__ = ["document_changes", "order_is_free"]

_KEYS = (
    "name",
    "id",
    "uuid",
    "key",
    "ident",
    "identifier",
    "index",
    "seq",
    "sequence",
    "number",
    "address",
    "interface",
)
_FEW = 2  # entries on both sides up to which a field is a key only by its name


def document_changes(old: Document, new: Document, masks: Masks) -> Iterator[Change]:
    """The changes, entries of lists matched by their keys; of INI the order of names in a section, too."""
    yield from _Comparison(new.notation, masks).nodes(old.root, new.root, new.notation.root)
    if new.kind.startswith("ini"):
        there = new.root.fields
        both = [(name, one, there[name]) for name, one in old.root.fields.items() if name in there]
        for name, before, after in [("", old.root, new.root), *both]:
            if _settings_of(before, after) != _settings_of(after, before):
                yield Change(How.EDITED, name, "", "order of names")


def _settings_of(section: Node, other: Node) -> list[str]:
    """The names of a section's own settings that the other side has there too, in their order."""
    return [name for name, one in section.fields.items() if one.value is not None and name in other.fields]


def order_is_free(document: Document, masks: Masks) -> bool:
    """Whether the document has a list whose order means nothing, as the masks say."""
    stack = [(document.root, document.notation.root)]
    while stack:
        node, path = stack.pop()
        if node.lists and masks.unordered(path.encode()):
            return True
        stack += [(one, document.notation.named(path, name)) for name, one in node.fields.items()]
        for name, entries in node.lists.items():
            alone = len(entries) == 1
            stack += [
                (one, document.notation.listed(path, name, at, None, alone=alone)) for at, one in enumerate(entries)
            ]
    return False


class _Comparison:
    def __init__(self, notation: Notation, masks: Masks) -> None:
        self._notation = notation
        self._masks = masks

    def nodes(self, old: Node, new: Node, path: str) -> Iterator[Change]:
        """What differs between two nodes of the same place."""
        if old.essence == new.essence:
            return
        if self._unlike(old, new):
            yield Change(How.EDITED, path or "/", old.text, new.text)
            return
        if old.value != new.value:
            yield Change(How.EDITED, path or "/", old.value or "", new.value or "")
        for name in {**old.fields, **new.fields}:
            place = self._notation.named(path, name)
            one, other = old.fields.get(name), new.fields.get(name)
            if one and other:
                yield from self.nodes(one, other, place)
            else:
                yield self._alone(one, other, place)
        for name in {**old.lists, **new.lists}:
            yield from self._lists(old.lists.get(name, []), new.lists.get(name, []), path, name)

    def _unlike(self, old: Node, new: Node) -> bool:
        """Whether one is a plain value and the other is not, or one a list and the other a table."""
        if self._notation.mixed:
            return False
        shapes = [(node.value is not None, bool(node.fields), bool(node.lists)) for node in (old, new)]
        return shapes[0] != shapes[1] and all(any(shape) for shape in shapes)

    def _alone(self, old: Node | None, new: Node | None, path: str) -> Change:
        if new is not None:
            return Change(How.ADDED, path, "", new.text)
        return Change(How.REMOVED, path, old.text if old else "", "")

    def _lists(self, old: Sequence[Node], new: Sequence[Node], path: str, name: str) -> Iterator[Change]:
        alone = len(old) <= 1 and len(new) <= 1
        key = self._key(old, new)
        pairs = list(_by_key(old, new, key) if key else _by_content(old, new))
        matched = {(at, to) for at, to in pairs if at is not None and to is not None}
        still = set() if self._masks.unordered(path.encode()) else set(longest_rising(sorted(matched)))

        def place(at: int, node: Node) -> str:
            known = (key, node.scalar(key) or "") if key else None
            return self._notation.listed(path, name, at, known, alone=alone and not key)

        for at, to in pairs:
            if at is None and to is not None:
                yield self._alone(None, new[to], place(to, new[to]))
            elif to is None and at is not None:
                yield self._alone(old[at], None, place(at, old[at]))
            elif at is not None and to is not None:
                yield from self.nodes(old[at], new[to], place(to, new[to]))
                if still and (at, to) not in still:
                    text = "" if key else new[to].text
                    yield Change(How.MOVED, place(to, new[to]), text, text, ranks=(at + 1, to + 1))

    def _key(self, old: Sequence[Node], new: Sequence[Node]) -> str | None:
        """The field by which entries are known: it stands in each, and no two on one side have the same."""
        if not old or not new or len(old) + len(new) <= _FEW:
            names: Sequence[str] = (*self._masks.known_by, *_KEYS[:4])
        else:
            names = (*self._masks.known_by, *_KEYS)
        for name in (spelt for one in names for spelt in (one, f"@{one}")):
            if _tells_apart(old, name) and _tells_apart(new, name):
                return name
        if not old or not new or len(old) + len(new) <= _FEW:
            return None
        own = (*new[0].fields, *new[0].lists)
        return next((name for name in own if _mostly_same(_tells_apart(old, name), _tells_apart(new, name))), None)


def _tells_apart(nodes: Sequence[Node], name: str) -> set[str]:
    """The values of a field when every entry has it and no two have the same; otherwise none."""
    seen: set[str] = set()
    for node in nodes:
        value = node.scalar(name)
        if value is None or value in seen:
            return set()
        seen.add(value)
    return seen


def _mostly_same(old: set[str], new: set[str]) -> bool:
    """Whether this may be a key though its name does not say so: few entries got another value."""
    return 2 * len(old & new) >= max(len(old), len(new)) > 0


_Pair = tuple[int | None, int | None]


def _by_key(old: Sequence[Node], new: Sequence[Node], key: str) -> Iterator[_Pair]:
    places = {node.scalar(key): at for at, node in enumerate(old)}
    kept = {node.scalar(key) for node in new}
    yield from ((at, None) for at, node in enumerate(old) if node.scalar(key) not in kept)
    yield from ((places.get(node.scalar(key)), to) for to, node in enumerate(new))


def _by_content(old: Sequence[Node], new: Sequence[Node]) -> Iterator[_Pair]:
    """Equal entries belong together, wherever they stand; of the others those that stand in the same gap."""
    one, other = [node.essence for node in old], [node.essence for node in new]
    edits = align(one, other)
    at = to = 0
    spare: dict[object, list[int]] = {}
    for edit in edits:
        for index in range(edit.old_from, edit.old_to):
            spare.setdefault(one[index], []).append(index)
    moved = {}
    for edit in edits:
        for index in range(edit.new_from, edit.new_to):
            if spare.get(other[index]):
                moved[index] = spare[other[index]].pop(0)
    gone = set(moved.values())
    for edit in edits:
        yield from zip(range(at, edit.old_from), range(to, edit.new_from), strict=True)
        left = [index for index in range(edit.old_from, edit.old_to) if index not in gone]
        right = [index for index in range(edit.new_from, edit.new_to) if index not in moved]
        yield from ((moved[index], index) for index in range(edit.new_from, edit.new_to) if index in moved)
        yield from zip(left, right, strict=False)
        yield from ((index, None) for index in left[len(right) :])
        yield from ((None, index) for index in right[len(left) :])
        at, to = edit.old_to, edit.new_to
    yield from zip(range(at, len(old)), range(to, len(new)), strict=True)
