"""Sizes as people read them, in decimal units (SI)."""

__all__ = ["size_text"]


def size_text(count_of_bytes: float) -> str:
    """A size with three digits or so.

    >>> size_text(812), size_text(53_200), size_text(1_400_000)
    ('812 B', '53.2 kB', '1.4 MB')
    """
    for unit in ("B", "kB", "MB", "GB"):
        if count_of_bytes < 1000 or unit == "GB":
            if unit == "B" or count_of_bytes >= 100:
                return f"{count_of_bytes:.0f} {unit}"
            return f"{count_of_bytes:.1f} {unit}"
        count_of_bytes /= 1000
    raise AssertionError("unreachable")
