"""Configurations that are made up, in many styles, and edits of which it is known what they mean."""

import gzip
import io
import json
import random
import sqlite3
import tarfile
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from xml.sax.saxutils import escape, quoteattr

__all__ = ["EDITS", "STYLES", "Model", "Section", "Style", "model_of"]

Settings = list[tuple[str, str]]


@dataclass
class Section:
    """A block of settings under a name."""

    name: str
    settings: Settings


@dataclass
class Model:
    """What a device is set to. `saved` is noise; `turned` tells an order of names that means nothing."""

    host: str
    release: str
    sections: list[Section] = field(default_factory=list)
    saved: int = 1000
    turned: int = 0

    @property
    def settings(self) -> list[tuple[str, str, str]]:
        """Each setting with its section."""
        return [(one.name, key, value) for one in self.sections for key, value in one.settings]


def model_of(host: str, rng: random.Random) -> Model:
    """A configuration of a dozen sections and more."""
    made = Model(host, f"4.{rng.randrange(9)}")
    for number in range(rng.randrange(12, 28)):
        made.sections.append(_section(f"port-{number}", rng))
    return made


def secret_of(rng: random.Random) -> str:
    """A password as it might be chosen; all of them are known by how they begin."""
    return f"pw-canary-{rng.randrange(16**8):08x}"


def _section(name: str, rng: random.Random) -> Section:
    settings = [
        ("description", f"berth-{rng.randrange(900)}"),
        ("address", f"10.{rng.randrange(90)}.{rng.randrange(250)}.1"),
        ("mtu", str(rng.choice([1400, 1500, 9000]))),
        ("password", secret_of(rng)),
    ]
    return Section(name, settings[: rng.randrange(2, 5)])


# ---- edits -----------------------------------------------------------------------------------------------------------


def _add(model: Model, rng: random.Random) -> None:
    taken = {one.name for one in model.sections}
    name = next(f"port-{n}" for n in range(1000) if f"port-{n}" not in taken)
    model.sections.insert(rng.randrange(len(model.sections)), _section(name, rng))


def _remove(model: Model, rng: random.Random) -> None:
    if len(model.sections) > 10:
        model.sections.pop(rng.randrange(len(model.sections)))
    else:
        _add(model, rng)


def _change(model: Model, rng: random.Random) -> None:
    section = rng.choice(model.sections)
    section.settings[0] = ("description", f"berth-{rng.randrange(1000, 10**6)}")


def _extend(model: Model, rng: random.Random) -> None:
    rng.choice(model.sections).settings.append((f"vlan-{rng.randrange(10**6)}", "tagged"))


def _rotate(model: Model, rng: random.Random) -> None:
    section = rng.choice(model.sections)
    section.settings = [(key, value) for key, value in section.settings if key != "password"]
    section.settings.append(("password", secret_of(rng)))


def _update(model: Model, rng: random.Random) -> None:
    model.release = f"{rng.randrange(5, 9)}.{rng.randrange(10**4)}"


EDITS: dict[str, Callable[[Model, random.Random], None]] = {
    "a section more": _add,
    "a section less": _remove,
    "another value": _change,
    "a setting more": _extend,
    "a password rotated": _rotate,
    "another release": _update,
}


# ---- styles ----------------------------------------------------------------------------------------------------------


def _lines(model: Model, mark: str, body: list[str], end: str) -> bytes:
    head = [f"{mark} saved at {model.saved}", f"hostname {model.host}", f"release {model.release}"]
    return "\n".join([*head, *body, end, ""]).encode()


def _indented(model: Model) -> bytes:
    body = [
        line
        for one in model.sections
        for line in (f"interface {one.name}", *(f"  {key} {value}" for key, value in one.settings))
    ]
    return _lines(model, "!", body, "end")


def _braced(model: Model) -> bytes:
    body = [
        line
        for one in model.sections
        for line in (f"interface {one.name} {{", *(f"    {key} {value};" for key, value in one.settings), "}")
    ]
    return _lines(model, "!", body, "# end")


def _worded(model: Model) -> bytes:
    body = ["config interface"]
    for one in model.sections:
        body += [f"  edit {one.name}", *(f"    set {key} {value}" for key, value in one.settings), "  next"]
    return _lines(model, "!", [*body, "end"], "# end")


def _headed(model: Model) -> bytes:
    body = [
        line
        for one in model.sections
        for line in (f"[{one.name}]", *(f"{key} = {value}" for key, value in one.settings))
    ]
    head = [f"; saved at {model.saved}", "[global]", f"hostname = {model.host}", f"release = {model.release}"]
    return "\n".join([*head, *body, "; end", ""]).encode()


def _prefixed(model: Model) -> bytes:
    return _lines(model, "!", [f"set interface {name} {key} {value}" for name, key, value in model.settings], "# end")


def _flat(model: Model) -> bytes:
    return _lines(model, "!", [f"{name}.{key} {value}" for name, key, value in model.settings], "# end")


def _xml(model: Model) -> bytes:
    names = [f"host={quoteattr(model.host)}", f"release={quoteattr(model.release)}"]
    lines = [f"<!-- saved at {model.saved} -->", f"<config {' '.join(names[:: -1 if model.turned % 2 else 1])}>"]
    for one in model.sections:
        inside = "".join(f"<{key}>{escape(value)}</{key}>" for key, value in one.settings)
        lines.append(f"  <interface><name>{one.name}</name>{inside}</interface>")
    return "\n".join([*lines, "</config>", ""]).encode()


def _json(model: Model) -> bytes:
    whole: dict[str, object] = {"host": model.host, "release": model.release, "saved": model.saved}
    whole["interfaces"] = [{"name": one.name, **dict(one.settings)} for one in model.sections]
    names = [*whole][:: -1 if model.turned % 2 else 1]
    return (json.dumps({name: whole[name] for name in names}, indent=1) + "\n").encode()


def _netconf(model: Model) -> bytes:
    """In the form that the program writes by itself, so that it comes back as it is."""
    lines = [
        '<config xmlns="urn:brackwater:thole">',
        f"  <host>{model.host}</host>",
        f"  <release>{model.release}</release>",
    ]
    for one in model.sections:
        inside = [f"    <{key}>{escape(value)}</{key}>" for key, value in [("name", one.name), *one.settings]]
        lines += ["  <interface>", *inside, "  </interface>"]
    return "\n".join([*lines, "</config>", ""]).encode()


def _csv(model: Model) -> bytes:
    rows = [f"{name},{key},{value}" for name, key, value in model.settings if key != "password"]
    head = ["name,key,value", f"host,name,{model.host}", f"host,release,{model.release}"]
    return "\n".join([*head, *rows, "end,end,end", ""]).encode()


def _archive(model: Model) -> bytes:
    plain = io.BytesIO()
    with tarfile.open(fileobj=plain, mode="w") as archive:
        members = {f"etc/{one.name}.conf": f"{one.name} {one.settings}\n".encode() for one in model.sections}
        for name, content in {"etc/main.cfg": _indented(model), **members}.items():
            entry = tarfile.TarInfo(name)
            entry.size = len(content)
            archive.addfile(entry, io.BytesIO(content))
    return gzip.compress(plain.getvalue(), mtime=0)


def _database(model: Model) -> bytes:
    with tempfile.TemporaryDirectory(dir="/dev/shm" if Path("/dev/shm").is_dir() else None) as folder:
        file = Path(folder) / "export.db"
        with sqlite3.connect(file) as db:
            db.execute("CREATE TABLE setting (section, name, value)")
            rows = [("host", "name", model.host), ("host", "release", model.release), *model.settings]
            db.executemany("INSERT INTO setting VALUES (?, ?, ?)", rows)
        db.close()
        return file.read_bytes()


def _large(model: Model, size: int) -> bytes:
    """A part that is kept in blocks: mostly the same bytes, with the model in their midst."""
    rng = random.Random(model.host)
    half = rng.randbytes(size // 2)
    return half + _flat(model) + half[::-1]


@dataclass(frozen=True)
class Style:
    """A form of export: how it is written, how a whole one ends, and what of it is noise to the program.

    `noise` and `end` are as the estate file has them; `quiet` are the attributes of a model that mean nothing here.
    """

    suffix: str
    write: Callable[[Model], bytes]
    end: str = ""
    noise: str = ""
    quiet: tuple[str, ...] = ()

    @property
    def is_text(self) -> bool:
        """Whether lines can be cut out of it and put into it."""
        return self.suffix == "cfg"


def _long(model: Model, lines: int) -> bytes:
    """A text whose edits stand behind so many lines that never change."""
    head = "".join(f"object-{number}\n  address 10.{number % 250}.{number // 250}.9\n" for number in range(lines // 2))
    return head.encode() + _indented(model)


_SAVED = "noise = ['^! saved at ']"
STYLES: dict[str, Style] = {
    "indentation": Style("cfg", _indented, "end", _SAVED, ("saved",)),
    "braces": Style("cfg", _braced, "# end", _SAVED, ("saved",)),
    "words": Style("cfg", _worded, "# end", _SAVED, ("saved",)),
    "headers": Style("cfg", _headed, "; end", "noise = ['^; saved at ']", ("saved",)),
    "prefixes": Style("cfg", _prefixed, "# end", _SAVED, ("saved",)),
    "flat": Style("cfg", _flat, "# end", _SAVED, ("saved",)),
    "xml": Style("xml", _xml, "</config>", "", ("saved", "turned")),
    "json": Style("json", _json, "}", "noise = ['json:/saved']", ("saved", "turned")),
    "csv": Style("csv", _csv, "end,end,end"),
    "archive": Style("tgz", _archive, "", _SAVED, ("saved",)),
    "database": Style("db", _database),
    "netconf": Style("xml", _netconf),
    "long": Style("cfg", lambda model: _long(model, 1500), "end", _SAVED, ("saved",)),
    "large": Style("bin", lambda model: _large(model, 17 * 2**20)),
}
