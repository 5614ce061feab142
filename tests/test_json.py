"""What --json prints has one form, and docs/json.md describes every field of it, and no other."""

import json
import re
import sqlite3
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from historon.store import PAUSED, PUSHING, Removal
from tests.conftest import EstateFolder

PAGE = Path(__file__).parent.parent / "docs" / "json.md"

ESTATE = """
[estate]
name = "Test"
time_zone = "Europe/Oslo"
[timetables.nightly]
at = "02:30"
[[freezes]]
from = 2026-12-20
to = 2099-01-03
why = "holidays"
[retention.short]
all = "1ms"
at_least = 1
[procedures.files]
over = "local"
values = { more = "x" }
steps = [{ pull = "{path}", as = "active.cfg" }]
proof = [["true"]]
push = [{ put = "{path}", part = "active.cfg" }]
noise = ['^! saved at ']
[procedures.paused]
over = "local"
steps = [{ pause = ["true"], resume = ["true"], steps = [{ pull = "{path}", as = "active.cfg" }] }]
[channels.record]
kind = "file"
path = "told.jsonl"
where = { role = "edge" }
[channels.all]
kind = "file"
path = "all.jsonl"
[channels.away]
kind = "mail"
to = ["a@example.org"]
from = "b@example.org"
server = "127.0.0.1"
port = 9
security = "none"
attach = "masked"
tell = "changed"
[channels.later]
kind = "file"
path = "later.jsonl"
digest = "nightly"
[copies.saltgate]
path = "saltgate"
[[requirements]]
name = "clock"
must = ['^time-server 10']
must_not = ['shutdown']
[[requirements]]
name = "elsewhere"
part = "nowhere"
must = ['x']
"""
SOURCE = """
[[sources]]
name = "{name}"
procedure = "{procedure}"
timetable = "nightly"
retention = "short"
max_age = "26h"
values = {{ path = "data/{name}" }}
labels = {{ role = "edge", site = "{name}" }}
"""
COMMANDS = (
    "sources",
    "doctor",
    "procedures",
    "collect",
    "status",
    "status --by role",
    "agenda --simulate 7d",
    "notices",
    "notices history",
    "notices show 1",
    "notices show 2",
    "notices show 3",
    "notices show 4",
    "notices show 5",
    "rounds",
    "rounds 1",
    "versions edge-1",
    "diff edge-1@1 edge-1@2",
    "diff --where role=edge",
    "changes",
    "find port",
    "find port --ever",
    "find time-server --ever",
    "trace edge-1 time-server",
    "trace edge-4 uptime",
    "requirements",
    "noise edge-1",
    "prune",
    "prune --history",
    "copies",
    "copies --compare",
    "status edge-1",
    "prove",
    "verify",
    "rehearse edge-1 edge-3",
    "restore edge-1 --to restored",
    "push edge-1@1",
    "push edge-1@1 --lines",
)


@pytest.fixture
def edges(estate: EstateFolder) -> EstateFolder:
    """Some sources with a history that has a bit of everything."""
    names = [f"edge-{number}" for number in range(1, 5)]
    rows = [SOURCE.format(name=name, procedure="paused" if name == "edge-2" else "files") for name in names]
    estate.write(ESTATE + "".join(rows))
    (estate.path / "data").mkdir()
    for round_ in range(6):
        for name in names:
            lines = [f"hostname {name}", f"uptime is {round_ * 7} s", "interface port-1", "  description a"]
            lines += ["time-server 11" if round_ and name == "edge-1" else "time-server 10"]
            lines += [f"lease of a{round_} held", f"lease of {'east' if round_ < 3 else 'west'} held"]
            lines += ["  shutdown" if round_ > 3 and name == "edge-2" else "  up", "end"]
            (estate.path / "data" / name).write_text("\n".join(lines) + "\n")
        if round_ == 5:
            (estate.path / "data" / "edge-3").unlink()
        estate.run("collect")
    store = estate.store()
    store.remove(store.versions("edge-4")[:1], Removal(datetime.now(UTC), {"edge-4": "retention short"}, 1))
    store.close()
    assert estate.run("copies", "--update").code == 0
    with closing(sqlite3.connect(estate.path / "store" / "ledger.sqlite")) as db:
        db.execute("DELETE FROM version WHERE source = (SELECT id FROM source WHERE name = 'edge-4') AND number = 2")
        db.commit()
    assert estate.run("copies", "--verify", "all").code == 5, "the copy differs from the store"
    return estate


def _documented() -> dict[str, set[str]]:
    """The fields that the page describes, by schema; those of all at the top."""
    found: dict[str, set[str]] = {}
    for section in re.split(r"^## ", PAGE.read_text(), flags=re.MULTILINE):
        name, _, text = section.partition("\n")
        cells = re.findall(r"^\| (`.*?) \|", text, re.MULTILINE)
        found[name if "# JSON" not in name else ""] = {one for cell in cells for one in re.findall(r"`([^`]+)`", cell)}
    return found


def _fields(data: Any, before: str = "") -> set[str]:
    if isinstance(data, list):
        return {one for item in data for one in _fields(item, before)}
    if not isinstance(data, dict):
        return set()
    return {before + key for key in data} | {
        one for key, item in data.items() for one in _fields(item, f"{before}{key}.")
    }


def _instants(data: Any) -> list[str]:
    if isinstance(data, (list, dict)):
        return [one for item in (data.values() if isinstance(data, dict) else data) for one in _instants(item)]
    return [data] if isinstance(data, str) and re.match(r"\d{4}-\d\d-\d\dT", data) else []


def test_every_field_is_documented_and_every_documented_field_is_there(edges: EstateFolder) -> None:
    documented = _documented()
    found: dict[str, set[str]] = {}
    (edges.path / "data" / "edge-4").write_bytes(b"\x1f\x8b damaged\0")
    edges.run("collect", "edge-4")
    store = edges.store()
    suspect = store.versions("edge-4")[-1].number
    store.close()
    assert edges.run("vouch", f"edge-4@{suspect}", "--yes").code == 0
    handle = edges.run("changes", "--json").rows[0]["handle"]
    results = [edges.run(*command.split(), "--json") for command in (*COMMANDS, f"changes {handle}")]
    ledger = edges.path / "store" / "ledger.sqlite"
    content = ledger.read_bytes()
    store = edges.store()
    store._db.execute("UPDATE content SET data = x'00' WHERE id IN (SELECT id FROM content LIMIT 3)")
    store.close()
    results += [edges.run("verify", "--json"), edges.run("store", "--json")]
    ledger.write_bytes(content)
    (edges.path / "historon.toml").chmod(0o666)
    results.append(edges.run("doctor", "--json"))
    store = edges.store()
    note = {"resume": ["daemon", "start"], "since": "2026-10-01T02:30:00+00:00", "until": "", "by": ""}
    store.remember("edge-1", PAUSED, json.dumps(note))
    push = {"wanted": 1, "before": 2, "since": "2026-10-01T02:30:00+00:00", "until": "", "by": ""}
    store.remember("edge-1", PUSHING, json.dumps(push))
    store.close()
    results.append(edges.run("status", "--json"))
    assert edges.run("hold", "edge-2@1").code == 0
    results += [edges.run("hold", "--json"), edges.run("vouch", "--json")]
    for result in results:
        name, number = re.fullmatch(r"historon/([a-z-]+)/(\d+)", result.data["schema"]).groups()  # type: ignore[union-attr]
        assert number == "1"
        assert result.data["headline"]
        assert all(re.fullmatch(r"[\dT:.-]+Z", one) for one in _instants(result.data)), "UTC (RFC 3339)"
        found.setdefault(name, set()).update(_fields(result.data))
    assert found.keys() == documented.keys() - {""}
    for name, fields in found.items():
        known = documented[name] | documented[""]
        free = tuple(one.removesuffix("*") for one in known if one.endswith(".*"))
        assert {one for one in fields - known if not one.startswith(free or ("\0",))} == set(), name
        assert {one for one in known - fields if not one.endswith(".*")} == set(), name
