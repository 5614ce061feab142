"""`python -m year.wholeness`: exports of some thirty kinds that are cut, replaced or emptied, and honest ones that are edited.

Each kind has a history of its own in a real store, and every export is judged as in a round. Of what is damaged nearly
nothing may count as good, and of honest edits nearly nothing as suspect. Honest ones are also files of this machine,
edited as people edit: lines and paragraphs that come, go and change.
"""

import bz2
import gzip
import hashlib
import io
import json
import lzma
import random
import re
import tarfile
import tempfile
import zipfile
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path

import click
import msgspec

from historon.base.workers import Done
from historon.collect.judging import answer, judged, question_about
from historon.estate import Keeping, read_estate
from historon.insight import Reader
from historon.inspection import Kept
from historon.store import Entry, FolderStore, Outcome, Part, State
from historon.versions import Masks
from year.texts import EDITS, STYLES, Model, model_of

__all__ = ["Measured", "measure"]

_NIGHTS = 6  # that an honest history has before damage comes
_HEAD = 200  # bytes in which a document says what it is
_LARGEST = 300_000  # bytes of a file of this machine
_START = datetime(2026, 1, 1, 2, 30, tzinfo=UTC)

Write = Callable[[Model], bytes]


# ---- kinds -----------------------------------------------------------------------------------------------------------


def _text(*lines: str) -> bytes:
    return ("\n".join(lines) + "\n").encode()


def _yaml(model: Model) -> bytes:
    ports = [f"  - name: {one.name}\n" + "".join(f"    {k}: {v}\n" for k, v in one.settings) for one in model.sections]
    return f"host: {model.host}\nrelease: {model.release}\nports:\n{''.join(ports)}saved: {model.saved}\n".encode()


def _sql(model: Model) -> bytes:
    rows = [f"CALL set_value('{name}', '{key}', '{value}');" for name, key, value in model.settings]
    head = ["BEGIN;", "CREATE TABLE setting (section, name, value);", f"CALL set_host('{model.host}');"]
    return _text(*head, *rows, "COMMIT;")


def _ldif(model: Model) -> bytes:
    entries = [
        f"dn: cn={one.name},dc=quay\ncn: {one.name}\n" + "".join(f"{k}: {v}\n" for k, v in one.settings)
        for one in model.sections
    ]
    return ("\n".join([f"dn: dc=quay\no: {model.host}\n", *entries]) + "\n").encode()


def _sets(model: Model) -> bytes:
    return _text(f"set host {model.host}", *(f"set interface {n} {k} {v}" for n, k, v in model.settings))


def _plain_ini(model: Model) -> bytes:
    body = [f"\n[{one.name}]\n" + "\n".join(f"{k} = {v}" for k, v in one.settings) for one in model.sections]
    return _text("[global]", f"hostname = {model.host}", *body)


def _toml(model: Model) -> bytes:
    body = [
        f'\n[[port]]\nname = "{one.name}"\n' + "\n".join(f'{k} = "{v}"' for k, v in one.settings)
        for one in model.sections
    ]
    return _text(f'host = "{model.host}"', *body)


def _zone(model: Model) -> bytes:
    rows = [f"{one.name}\tIN\tA\t{dict(one.settings).get('address', '10.9.9.9')}" for one in model.sections]
    return _text("$TTL 3600", f"@ IN SOA {model.host}. root. ( {model.saved}", " 3600 600 86400 60 )", *rows)


def _hosts(model: Model) -> bytes:
    return _text(f"127.0.0.1 {model.host}", *(f"10.0.{n}.1 {one.name}" for n, one in enumerate(model.sections)))


def _properties(model: Model) -> bytes:
    return _text(f"host={model.host}", *(f"{name}.{key}={value}" for name, key, value in model.settings))


def _tagged(model: Model) -> bytes:
    body = [
        f"<Port {one.name}>\n" + "".join(f"  {k} {v}\n" for k, v in one.settings) + "</Port>" for one in model.sections
    ]
    return _text(f"ServerName {model.host}", *body)


def _blocks(model: Model) -> bytes:
    body = [
        "  chain " + one.name + " {\n" + "".join(f"    {k} {v}\n" for k, v in one.settings) + "  }"
        for one in model.sections
    ]
    return _text("table inet filter {", *body, "}")


def _rows_of_json(model: Model) -> bytes:
    return _text(*(json.dumps({"name": one.name, **dict(one.settings)}) for one in model.sections))


def _json_without_end(model: Model) -> bytes:
    return json.dumps(
        {"host": model.host, "ports": [{"name": one.name, **dict(one.settings)} for one in model.sections]}
    ).encode()


def _keys(model: Model) -> bytes:
    rng = random.Random(model.host)
    blocks = []
    for one in model.sections[:8]:
        body = "\n".join(f"{rng.getrandbits(256):064x}" for _ in range(8))
        blocks.append(f"-----BEGIN CERTIFICATE-----\n{body}\n-----END CERTIFICATE-----\n# {one.name}")
    return _text(f"# {model.host} {model.release}", *blocks, f"# {model.settings[0][2]}")


def _commands(model: Model) -> bytes:
    body = [f"/interface {one.name}\n" + "\n".join(f"add {k}={v}" for k, v in one.settings) for one in model.sections]
    return _text(f"# {model.host}", *body)


def _table(model: Model) -> bytes:
    return _text(
        "name      key         value",
        *(f"{n:<10}{k:<12}{v}" for n, k, v in model.settings),
        f"total {len(model.settings)}",
    )


def _packed_zip(model: Model) -> bytes:
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in _members(model).items():
            archive.writestr(zipfile.ZipInfo(name), content)
    return made.getvalue()


def _packed_tar(model: Model, mode: str) -> bytes:
    made = io.BytesIO()
    with tarfile.open(fileobj=made, mode=mode) as archive:  # type: ignore[call-overload]
        for name, content in _members(model).items():
            info = tarfile.TarInfo(name)
            info.size = len(content)
            archive.addfile(info, io.BytesIO(content))
    return made.getvalue()


def _members(model: Model) -> dict[str, bytes]:
    return {
        "etc/main.cfg": STYLES["braces"].write(model),
        "etc/ports.csv": STYLES["csv"].write(model),
        "etc/host": model.host.encode(),
    }


def _bundle(model: Model) -> bytes:
    """Settings beside an image that is the same each night."""
    image = random.Random("image").randbytes(120_000)
    made = io.BytesIO()
    with tarfile.open(fileobj=made, mode="w") as archive:
        for name, content in {
            "image.bin": image,
            "settings.cfg": STYLES["indentation"].write(model),
            "sum": b"1 2 3\n",
        }.items():
            info = tarfile.TarInfo(name)
            info.size = len(content)
            archive.addfile(info, io.BytesIO(content))
    return gzip.compress(made.getvalue(), mtime=0)


_INDENTED = STYLES["indentation"].write
KINDS: dict[str, Write] = {
    f"{name}.{one.suffix}": one.write for name, one in STYLES.items() if name not in ("large", "long")
} | {
    "hosts.yaml": _yaml,
    "dump.sql": _sql,
    "people.ldif": _ldif,
    "set.txt": _sets,
    "app.ini": _plain_ini,
    "app.toml": _toml,
    "zone.db": _zone,
    "hosts": _hosts,
    "app.properties": _properties,
    "web.conf": _tagged,
    "rules.nft": _blocks,
    "rows.jsonl": _rows_of_json,
    "whole.json": _json_without_end,
    "chain.pem": _keys,
    "export.rsc": _commands,
    "table.txt": _table,
    "bare.txt": STYLES["xml"].write,
    "all.zip": _packed_zip,
    "all.tar": lambda model: _packed_tar(model, "w"),
    "all.txz": lambda model: _packed_tar(model, "w:xz"),
    "text.gz": lambda model: gzip.compress(_INDENTED(model), mtime=0),
    "text.bz2": lambda model: bz2.compress(_INDENTED(model)),
    "text.xz": lambda model: lzma.compress(_INDENTED(model)),
    "settings.json.gz": lambda model: gzip.compress(STYLES["json"].write(model), mtime=0),
    "wide.txt": lambda model: _INDENTED(model).decode().encode("utf-16"),
    "wide.reg": lambda model: _plain_ini(model).decode().replace("\n", "\r\n").encode("utf-16-le"),
    "bundle.bin.tgz": _bundle,
}
_PACKERS: dict[str, Callable[[bytes], bytes]] = {".gz": gzip.compress, ".bz2": bz2.compress, ".xz": lzma.compress}


# ---- damage ----------------------------------------------------------------------------------------------------------

_PAGE = b"<!DOCTYPE html><html><head><title>Sign in</title></head><body><form>user, password</form></body></html>\n"
_ANSWERS = (
    b"", b"\n\n", b"{}", b"null", b'{"status": "error"}', b'[{"result": 1}]', b'{"error": "no such session"}', _PAGE, _PAGE * 40,
    b"<rpc-reply><rpc-error><error-tag>access-denied</error-tag></rpc-error></rpc-reply>", b"bash: show: command not found\n",
    b"Error: the disk is full\n", b"Configuration database locked\n", b"Permission denied\n", b"% Invalid input detected\n",
    b"Access is denied.\r\n", b"cat: /etc/app.conf: No such file or directory\n", b"the session has expired\n", b"502 Bad Gateway\n",
    b'<?xml version="1.0"?><s:Envelope xmlns:s="s"><s:Body><s:Fault>no</s:Fault></s:Body></s:Envelope>',
)  # fmt: skip


def _damaged(name: str, content: bytes, rng: random.Random) -> tuple[str, bytes]:
    """What went wrong, and what came instead."""
    pack = next((pack for ending, pack in _PACKERS.items() if name.endswith(ending)), None)
    is_text = b"\0" not in content and pack is None
    what = rng.choice(["cut", "cut", "answer", "another", "zeros", "random", "line", "packed"])
    if what == "line" and is_text and content.count(b"\n") > 8:
        lines = content.splitlines(keepends=True)
        return "cut between two lines", b"".join(lines[: rng.randrange(len(lines) * 2 // 10, len(lines) * 8 // 10)])
    if what == "packed" and pack is not None:
        return "an answer, packed", pack(rng.choice(_ANSWERS))
    if what == "packed" and name.endswith((".zip", ".tar", ".tgz", ".txz")):
        return "members emptied", _emptied(name, content)
    if what == "answer":
        return "an answer instead", rng.choice(_ANSWERS)
    if what == "another":
        other = rng.choice([one for one in KINDS if one.rpartition(".")[2] != name.rpartition(".")[2]])
        return f"another kind of device ({other})", KINDS[other](model_of(f"other-{rng.randrange(99)}", rng))
    if what == "zeros":
        return "zeros", bytes(len(content))
    if what == "random":
        return "random bytes", rng.randbytes(len(content))
    at = rng.randrange(len(content) // 10, len(content) * 95 // 100)
    return "cut", content[: at - (at % 2) if name.startswith("wide") else at]


def _emptied(name: str, content: bytes) -> bytes:
    made = io.BytesIO()
    if name.endswith(".zip"):
        with zipfile.ZipFile(io.BytesIO(content)) as old, zipfile.ZipFile(made, "w") as new:
            for one in old.namelist():
                new.writestr(one, b"")
        return made.getvalue()
    with tarfile.open(fileobj=io.BytesIO(content)) as old_tar, tarfile.open(fileobj=made, mode="w:gz") as new_tar:
        for member in old_tar.getmembers():
            member.size = 0
            new_tar.addfile(member)
    return made.getvalue() if not name.endswith(".tar") else gzip.decompress(made.getvalue())


# ---- honest edits of files -------------------------------------------------------------------------------------------


def _files(rng: random.Random) -> list[Path]:
    """Files of this machine that somebody may edit."""
    found = [
        file
        for place in ("/etc", "/usr/share", "/usr/lib/systemd")
        for ending in ("conf", "cfg", "xml", "json", "ini", "yaml", "service", "rules", "list", "cnf")
        for file in Path(place).rglob(f"*.{ending}")
    ]
    chosen = []
    for file in rng.sample(sorted(found), len(found)):
        try:
            if file.is_file() and 400 < file.stat().st_size < _LARGEST:
                chosen.append(file)
        except OSError:
            continue
    return chosen


def _edited(text: bytes, rng: random.Random) -> bytes:
    """As a person edits: some lines, a paragraph, at any place; of a document some numbers."""
    lines = text.splitlines(keepends=True)
    # A person closes what is opened: lines with brackets and tags stay.
    plain = [
        number for number, line in enumerate(lines) if not re.search(rb"[\\\[\](){}<>\"']|\bend\b", line, re.IGNORECASE)
    ]
    if not plain or text.lstrip()[:1] in (b"<", b"{"):
        head, rest = text[:_HEAD], text[_HEAD:]
        return head + re.sub(rb"[1-9]", lambda found: b"%d" % rng.randrange(1, 9), rest, count=rng.randrange(1, 4))
    at = rng.choice(plain)
    what = rng.choice(["change", "change", "insert", "insert", "delete", "paragraph", "append", "comment"])
    if what == "change":
        lines[at] = lines[at].rstrip(b"\n") + b" %d\n" % rng.randrange(99)
    elif what == "insert":
        lines.insert(at, b"option-%d yes\n" % rng.randrange(999))
    elif what == "delete" and len(lines) > 5:
        del lines[at]
    elif what == "paragraph" and len(lines) > 20:
        end = at
        while end in plain and end - at < len(lines) // 5 and lines[end].strip():
            end += 1
        del lines[at:end]
    elif what == "append" and not lines[-1].strip().startswith((b"}", b"]")):
        lines.append(b"option-%d no\n" % rng.randrange(999))
    else:
        lines[at] = b"#" + lines[at]
    return b"".join(lines)


# ---- measuring -------------------------------------------------------------------------------------------------------


@dataclass
class Measured:
    """How many damages were judged, and those that counted as good; the same of honest ones that counted as suspect."""

    damages: int = 0
    passed: list[str] = field(default_factory=list)
    honest: int = 0
    alarms: list[str] = field(default_factory=list)
    kinds: Counter[str] = field(default_factory=Counter)


class _Bench:
    """A store in which sources are judged as in a round."""

    def __init__(self, folder: Path) -> None:
        file = folder / "historon.toml"
        source = '[[sources]]\nname = "s"\nprocedure = "p"\n'
        procedure = "[procedures.p]\nover = \"local\"\nsteps = [{ pull = \"x\" }]\nnoise = ['saved', 'json:/saved']\n"
        file.write_text(f'[estate]\nname = "Wholeness"\n{procedure}{source}')
        self.estate = read_estate(file)
        self.store = FolderStore.create(folder / "store")
        self._at = _START

    def take(self, name: str, part: str, content: bytes, *, keep: bool = True) -> list[str]:
        """The doubts about an export of a source; a good one becomes its last good version."""
        self._at += timedelta(hours=1)
        (source,) = self.estate.sources.values()
        procedure = self.estate.procedure_of(source)
        step = procedure.steps[0]
        assert isinstance(step, Keeping)
        kept = [Kept(Part(part, content), step)]
        made = msgspec.structs.replace(source, name=name)
        masks = Masks.of(procedure, key=self.store.fingerprint_key())
        question = question_about(self.store, made, procedure, kept, masks, Reader((), ()))
        doubts = list(judged(question, Done(list(answer(question)))).doubts)
        if keep and not doubts:
            self.keep(name, part, content)
        return doubts

    def keep(self, name: str, part: str, content: bytes) -> None:
        """Let an export be the last good version of a source."""
        number = self.store.begin_round(self._at, "wholeness")
        entry = Entry(name, Outcome.CHANGED, self._at, timedelta(), [Part(part, content)], State.GOOD)
        self.store.record(number, [entry])
        self.store.end_round(number, self._at)


def measure(damages: int, honest: int, seed: int) -> Measured:
    """Judge so many damaged exports and so many honest ones."""
    rng = random.Random(seed)
    made = Measured()
    with tempfile.TemporaryDirectory() as name:
        bench = _Bench(Path(name))
        models = {part: model_of(f"host-{number}", rng) for number, part in enumerate(KINDS)}
        for part, content in _histories(models, rng):
            made.honest += 1
            if doubts := bench.take(part, part, content):
                made.alarms.append(f"{part}: {doubts[0]}")
        for _ in range(damages):
            part = rng.choice([*KINDS])
            what, content = _damaged(part, KINDS[part](models[part]), rng)
            made.damages += 1
            made.kinds[part] += 1
            if not bench.take(part, part, content, keep=False):
                made.passed.append(f"{part}: {what}, {len(content):,} bytes")
        _play_honest(bench, models, honest, rng, made)
        bench.store.close()
    return made


def _histories(models: dict[str, Model], rng: random.Random) -> Iterator[tuple[str, bytes]]:
    """Some nights of each kind."""
    for part, model in models.items():
        for _ in range(_NIGHTS):
            EDITS[rng.choice([*EDITS])](model, rng)
            yield part, KINDS[part](model)


def _play_honest(bench: _Bench, models: dict[str, Model], honest: int, rng: random.Random, made: Measured) -> None:
    """Half of them are made-up devices, half files of this machine."""
    for _ in range(honest // 2):
        part = rng.choice([*KINDS])
        models[part].saved += 1
        EDITS[rng.choice([*EDITS])](models[part], rng)
        made.honest += 1
        content = KINDS[part](models[part])
        if doubts := bench.take(part, part, content):
            made.alarms.append(f"{part}: {doubts[0]}")
            bench.keep(part, part, content)  # as a person would, who looks at it and vouches for it
    texts = {file: file.read_bytes() for file in _files(rng)[: max(1, honest // 40)]}
    left = honest - honest // 2
    while left > 0 and texts:
        for file, text in list(texts.items()):
            name = hashlib.sha256(bytes(file)).hexdigest()[:12]
            doubts = bench.take(name, file.name, text)
            made.honest, left = made.honest + 1, left - 1
            if doubts:
                made.alarms.append(f"{file}: {doubts[0]}")
                del texts[file]  # a person would look at it, and vouch for it
            else:
                texts[file] = _edited(text, rng)


@click.command()
@click.option("--damages", default=1000, show_default=True)
@click.option("--honest", default=10_000, show_default=True)
@click.option("--seed", default=1, show_default=True)
def main(damages: int, honest: int, seed: int) -> None:
    """Damaged and honest exports of some thirty kinds."""
    made = measure(damages, honest, seed)
    print("\n".join(f"passed as good: {one}" for one in made.passed[:40]))
    print("\n".join(f"false alarm: {one}" for one in made.alarms[:40]))
    print(f"{len(made.passed)} of {made.damages} damages of {len(made.kinds)} kinds passed as good")
    print(f"{len(made.alarms)} of {made.honest} honest exports were suspect")
    raise SystemExit(len(made.passed) * 100 > made.damages or len(made.alarms) * 1000 > made.honest)


if __name__ == "__main__":
    main()
