"""Sections of settings."""

import re
from collections.abc import Sequence

from historon.compare.documents.interface import Document, Format, Node, Notation, Plain, without

__all__ = ["Ini"]

_SECTION = re.compile(rb"^\[[^\[\]\n]+\]\s*$", re.MULTILINE)
_SETTING = re.compile(r"\s*([^=:;#\s][^=:\n]*?)\s*([=:])\s*(.*)")


class _Ini(Notation):
    """`[section] key`."""

    def named(self, path: str, name: str) -> str:
        return f"{path} {name}" if path else name


class Ini(Format):
    """Sections, in no order, of settings, whose order is kept: the first that fits may decide.

    None where a line is neither a section nor a setting, where one of them stands twice, where a line is indented, as
    it may then go on with the one before, and where it is not plain what parts a key from its value.
    """

    turn = 40

    def claims(self, name: str, start: bytes) -> bool:
        return name.endswith((".ini", ".conf", ".cfg", ".properties", ".toml")) or start == b"["

    def parse(self, content: bytes, xpaths: Sequence[str], pointers: Sequence[str]) -> Document | None:
        if not (content.startswith(b"[") or b"\n[" in content) or not _SECTION.search(content):
            return None
        settings: dict[str, dict[str, str]] = {"": {}}
        section, signs = "", set()
        for line in content.decode("utf-8-sig").splitlines():
            if not line.strip() or line.strip()[0] in "#;":
                continue
            if line.startswith("[") and line.rstrip().endswith("]"):
                section = line.rstrip()
                if section in settings:
                    return None
                settings[section] = {}
                continue
            found = _SETTING.fullmatch(line)
            if found is None or line[0].isspace() or found[1] in settings[section]:
                return None
            signs.add(found[2])
            settings[section][found[1]] = found[3].rstrip()
        if len(signs) > 1:
            return None
        fields: dict[str, Node] = {name: Plain(value) for name, value in settings.pop("").items()}
        for name, under in settings.items():
            fields[name] = Plain(fields={key: Plain(value) for key, value in under.items()})
        return Document(f"ini {''.join(signs)}", without(Plain(fields=fields), pointers), _Ini())
