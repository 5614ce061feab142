"""Texts that strangers sent, made harmless for eyes: nothing in them acts on a screen, reorders others, or hides."""

import re
import unicodedata
from functools import lru_cache

__all__ = ["made_visible"]

_UNUSUAL = re.compile(r"[^\x20-\x7e]")
# Of general categories that are seen, and not seen anyway: fillers, joiners, selectors, and Braille's blank
# (Unicode 15.1, DerivedCoreProperties: Default_Ignorable_Code_Point).
_IGNORED = re.compile(
    "[\u034f\u115f\u1160\u17b4\u17b5\u180b-\u180f\u2800\u3164\ufe00-\ufe0f\uffa0\U000e0000-\U000e0fff]"
)


def made_visible(text: str, *, kept: str = "", instead: str | None = None) -> str:
    r"""The text with controls (ECMA-48), direction marks (UAX 9) and all that is invisible written out as `\u202e`.

    Of the controls those in `kept` stay; with `instead` that stands in their place.
    """

    def shown(match: re.Match[str]) -> str:
        char = match[0]
        if char in kept or not _is_hidden(char):
            return char
        return _written(char) if instead is None else instead

    return _UNUSUAL.sub(shown, text)


@lru_cache(maxsize=4096)
def _is_hidden(char: str) -> bool:
    category = unicodedata.category(char)
    return category.startswith("C") or category in ("Zl", "Zp") or _IGNORED.match(char) is not None


def _written(char: str) -> str:
    return char.encode("unicode_escape", "surrogatepass").decode()
