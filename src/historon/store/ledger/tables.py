"""The tables that every engine has, and what numbers in them stand for. docs/store-format.md says what each is for."""

__all__ = ["KEYS", "OUTCOMES", "STATES", "TABLES", "insertion"]

OUTCOMES = ("new", "changed", "unchanged", "suspect", "failed", "skipped")
STATES = ("good", "noise", "suspect")

TABLES: dict[str, tuple[str, ...]] = {
    "source": (
        "id",
        "name",
        "last_number",
        "good",
        "good_at",
        "confirmed_at",
        "outcome",
        "outcome_at",
        "note",
    ),
    "round": ("number", "began", "ended", "trigger", "tally", "record"),
    "outcome": ("round", "source", "outcome", "at", "took", "number", "note", "steps"),
    "version": (
        "source",
        "number",
        "at",
        "state",
        "size",
        "added",
        "removed",
        "parts",
        "held",
        "note",
        "families",
        "trees",
    ),
    "removed": ("source", "number", "at", "sha256", "rule", "gone", "round"),
    "strand": ("id", "source", "name", "first", "next", "stored"),
    "content": ("id", "strand", "position", "base_strand", "base", "size", "encoding", "sha256", "data"),
    "bundle": ("id", "strand", "first", "data"),
    "block": ("id", "strand", "sha256", "data"),
    "memory": ("source", "topic", "text"),
    "signature": ("source", "first", "bits", "more"),
    "pending": ("id", "channel", "due", "round", "event"),
    "notice": (
        "number",
        "channel",
        "at",
        "fate",
        "tries",
        "next",
        "subject",
        "letter",
        "answer",
        "remaining",
    ),
    "meta": ("name", "value"),  # the last one, as triggers write to it
}

KEYS: dict[str, tuple[str, ...]] = {
    "meta": ("name",),
    "source": ("id",),
    "round": ("number",),
    "outcome": ("round", "source"),
    "version": ("source", "number"),
    "removed": ("source", "number"),
    "strand": ("id",),
    "content": ("id",),
    "bundle": ("id",),
    "block": ("id",),
    "memory": ("source", "topic"),
    "signature": ("source",),
    "pending": ("id",),
    "notice": ("number",),
}


def insertion(table: str) -> str:
    """The statement that inserts a whole row."""
    columns = TABLES[table]
    return f"INSERT INTO {table} ({', '.join(columns)}) VALUES ({', '.join('?' * len(columns))})"  # noqa: S608
