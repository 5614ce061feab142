"""How a Capstan router's settings are edited, line by line."""

__all__ = ["CapstanSettings"]

_SECTIONS = ("interface ", "access-list ", "zone ")
# Of these there is one in its place; a new one takes the place of the one before. Others are lists.
_SINGLE = ("hostname", "description", "network", "address", "monitor", "user", "shutdown")
_INDENT = "  "


class CapstanSettings:
    """The settings as lines, and the section that one is in."""

    def __init__(self, text: str) -> None:
        self._lines = text.splitlines()
        self._section = ""

    def __str__(self) -> str:
        return "\n".join(self._lines) + "\n"

    @property
    def inside(self) -> bool:
        """Whether one is in a section."""
        return bool(self._section)

    def leave(self) -> None:
        """Leave the section."""
        self._section = ""

    def take(self, line: str) -> str:
        """Take a line; returns what is wrong with it, or nothing."""
        words = line.split()
        if line.startswith(_SECTIONS):
            self._section = line
            if line not in self._lines:
                self._lines[self._end : self._end] = [line, "!"]
            return ""
        if words[0] == "no" and words[1:] != ["shutdown"]:
            return self._remove(line.removeprefix("no ").strip())
        if len(words) == 1 and words[0] not in _SINGLE:
            return f"Unknown setting: {line}"
        self._put(line)
        return ""

    @property
    def _end(self) -> int:
        return len(self._lines) - 1 if self._lines[-1] == "end" else len(self._lines)

    def _range(self) -> tuple[int, int]:
        """Where the lines of the section are; of no section, all that are in none."""
        if not self._section:
            return 0, self._end
        start = self._lines.index(self._section) + 1
        end = start
        while end < len(self._lines) and self._lines[end].startswith(_INDENT):
            end += 1
        return start, end

    def _put(self, line: str) -> None:
        start, end = self._range()
        indent = _INDENT if self._section else ""
        written = indent + line
        if written in self._lines[start:end]:
            return
        alike = [at for at in range(start, end) if self._is_alike(self._lines[at], line, indent)]
        if alike and _key(line) in _SINGLE:
            self._lines[alike[0]] = written
        else:
            self._lines.insert(alike[-1] + 1 if alike and not self._section else end, written)

    def _remove(self, line: str) -> str:
        if line.startswith(_SECTIONS):
            if line not in self._lines:
                return f"There is no {line}"
            at = self._lines.index(line)
            end = at + 1
            while self._lines[end].startswith(_INDENT):
                end += 1
            del self._lines[at : end + (self._lines[end] == "!")]
            return ""
        start, end = self._range()
        written = (_INDENT if self._section else "") + line
        if written not in self._lines[start:end]:
            return f"There is no {line}"
        del self._lines[self._lines.index(written, start)]
        return ""

    @staticmethod
    def _is_alike(there: str, line: str, indent: str) -> bool:
        """Whether a line of this depth is a setting of the same name."""
        same_depth = there.startswith(indent) and not there.removeprefix(indent).startswith(" ")
        return same_depth and _key(there) == _key(line)


def _key(line: str) -> str:
    words = line.strip().removeprefix("no ").split()
    return words[0] if words else ""
