"""Pages in HTML: whole in one file, with nothing fetched from anywhere."""

from collections.abc import Iterator, Sequence
from importlib import resources
from typing import Any

from historon.base.visible import made_visible
from historon.compare import Marked, PartChange, folded, hunks, marked, side_by_side

__all__ = ["difference_page"]


def difference_page(title: str, sides: Sequence[str], changes: Sequence[PartChange], context: int) -> str:
    """What changed, for a browser: each part with its changes under their paths, then line beside line.

    `sides` name what is compared. Everything that a source sent is escaped and has its secrets masked.
    """
    parts = [
        {
            "name": change.name,
            "was": change.was,
            "kind": str(change.kind),
            "added": change.added,
            "removed": change.removed,
            "changes": list(folded(change.changes)),
            "structured": change.structured,
            "hunks": list(_hunks(change, context)),
        }
        for change in changes
    ]
    return str(_template("difference.html").render(title=title, sides=sides, parts=parts))


def _template(name: str) -> Any:
    from jinja2 import Environment, StrictUndefined  # imported where it is used: few commands write pages

    source = (resources.files("historon") / "report" / name).read_text(encoding="utf-8")
    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    environment.filters["visible"] = _visible
    return environment.from_string(source)


def _hunks(change: PartChange, context: int) -> Iterator[dict[str, object]]:
    for hunk in hunks(change, context):
        path = " / ".join(heading.decode("utf-8", "replace") for heading in hunk.path)
        pairs = side_by_side(marked(hunk, _visible, change))
        yield {"path": path, "rows": [(_cell(old), _cell(new)) for old, new in pairs]}


def _cell(row: Marked | None) -> dict[str, object]:
    if row is None:
        return {"mark": "", "number": "", "noise": False, "pieces": []}
    return {"mark": row.mark.strip(), "number": row.number, "noise": row.noise, "pieces": list(_pieces(row))}


def _pieces(row: Marked) -> Iterator[tuple[str, bool]]:
    """The text cut at what differs: each piece, and whether it does."""
    at = 0
    for start, end in row.spans:
        yield row.text[at:start], False
        yield row.text[start:end], True
        at = end
    yield row.text[at:], False


def _visible(text: str) -> str:
    """Control characters would be dropped or acted on by a browser."""
    return made_visible(text, kept="\t", instead="·")
