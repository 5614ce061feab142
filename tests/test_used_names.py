"""References: what uses what is learnt from the text, and what leads nowhere is reported; where it is not certain, nothing."""

import pytest

from historon.compare import Change, How, compare_exports
from historon.insight import Reader, Weights, fingerprints
from historon.versions import Masks
from tests.conftest import EstateFolder, describe_estate

_MASKS = Masks(key=b"made up")
_LISTS = """hostname quay-1
access-list EDGE-IN
 permit tcp 10.1.0.0/16 port 443
 deny ip any
access-list MGMT
 permit tcp 10.9.0.0/16 port 22
interface port-1
 access-group EDGE-IN in
 description behind EDGE-IN
interface port-2
 access-group EDGE-IN in
interface port-3
 access-group MGMT in
line console
 access-class MGMT in
"""
_UPSTREAMS = """upstream tickets {
    server 10.0.0.1:80;
    server 10.0.0.2:80;
}
upstream maps {
    server 10.0.0.3:80;
}
server {
    listen 80;
    location / {
        proxy_pass http://tickets;
    }
    location /maps {
        proxy_pass http://maps;
    }
}
"""
_OBJECTS = """config address
    edit "srv-web"
        set subnet 10.0.0.5 255.255.255.255
    next
    edit "srv-db"
        set subnet 10.0.0.6 255.255.255.255
    next
end
config policy
    edit 1
        set source "all"
        set target "srv-web"
    next
    edit 2
        set source "srv-web"
        set target "srv-db"
    next
    edit 3
        set source "srv-db"
        set target "srv-db"
    next
end
"""


def _changes(old: str, new: str) -> list[Change]:
    return [one for part in compare_exports({"p": old.encode()}, {"p": new.encode()}, _MASKS) for one in part.changes]


def _unresolved(old: str, new: str) -> list[str]:
    return [f"{one.path}: {one.new}" for one in _changes(old, new) if one.how is How.UNRESOLVED]


@pytest.mark.parametrize(
    ("text", "gone", "came", "uses"),
    [
        (
            _LISTS,
            " deny ip any\n",
            "",
            "used by 2: interface port-1 / access-group EDGE-IN in; interface port-2 / access-group EDGE-IN in",
        ),
        (_UPSTREAMS, "10.0.0.2:80", "10.0.0.9:80", "used by 1: server / location / / proxy_pass http://tickets"),
        (
            _OBJECTS,
            "10.0.0.5 ",
            "10.0.0.9 ",
            'used by 2: config policy / edit 1 / set target "srv-web"; config policy / edit 2 / set source "srv-web"',
        ),
    ],
)
def test_what_an_edit_touches_is_told_with_its_users(text: str, gone: str, came: str, uses: str) -> None:
    (change,) = _changes(text, text.replace(gone, came))
    assert change.uses == uses


@pytest.mark.parametrize(
    ("text", "gone", "came", "told"),
    [
        (
            _LISTS,
            "access-list MGMT\n permit tcp 10.9.0.0/16 port 22\n",
            "",
            "access-list MGMT: no longer defined, but still used by 2: interface port-3 / access-group MGMT in; line console / access-class MGMT in",
        ),
        (
            _LISTS,
            "access-list EDGE-IN\n",
            "access-list EDGE-OUT\n",
            "access-list EDGE-IN: no longer defined, but still used by 2: interface port-1 / access-group EDGE-IN in; interface port-2 / access-group EDGE-IN in",
        ),
        (_LISTS, "access-class MGMT in", "access-class MGNT in", ""),
        (
            _LISTS,
            "port-3\n access-group MGMT in",
            "port-3\n access-group MGNT in",
            "interface port-3 / access-group MGNT in: MGNT is not defined as access-list",
        ),
        (
            _UPSTREAMS,
            "upstream maps {\n    server 10.0.0.3:80;\n}\n",
            "",
            "upstream maps: no longer defined, but still used by 1: server / location /maps / proxy_pass http://maps",
        ),
        (
            _OBJECTS,
            'edit 1\n        set source "all"\n        set target "srv-web"',
            'edit 1\n        set source "all"\n        set target "srv-wbe"',
            'config policy / edit 1 / set target "srv-wbe": srv-wbe is not defined as config address / edit',
        ),
    ],
)
def test_what_leads_nowhere_is_told(text: str, gone: str, came: str, told: str) -> None:
    assert _unresolved(text, text.replace(gone, came)) == [told] * bool(told)


@pytest.mark.parametrize(
    ("old", "new"),
    [
        (_LISTS, _LISTS.replace("EDGE-IN", "EDGE-OUT")),  # renamed everywhere
        (_LISTS, _LISTS.replace("interface port-2\n access-group EDGE-IN in\n", "")),  # a user went
        (_LISTS, _LISTS.replace("access-list MGMT", "access-list extended MGMT")),  # still there, as another kind
        ("user watch\n role viewer\nalert watch\n", "alert watch\n"),  # a word, not a name
        ("zone guests\n x\ninterface port-1\n description for guests\n", "interface port-1\n description for guests\n"),
        (_LISTS, _LISTS + "interface port-4\n access-group all in\n"),
        ("a 1\n", "a 1\nb 2\n"),
    ],
)
def test_where_nothing_is_certain_nothing_is_told(old: str, new: str) -> None:
    assert _unresolved(old, new) == []


def test_it_is_an_alarm_of_its_own_everywhere(estate: EstateFolder) -> None:
    describe_estate(
        estate,
        over="local",
        steps='{ pull = "data" }',
        source="",
        procedure="",
        head="",
        more='[channels.c]\nkind = "file"\npath = "told"\n',
    )
    data = estate.path / "data"
    data.mkdir()
    (data / "quay.cfg").write_text(_LISTS)
    estate.run("collect")
    (data / "quay.cfg").write_text(_LISTS.replace("access-list MGMT\n permit tcp 10.9.0.0/16 port 22\n", ""))
    estate.run("collect")
    told = "! access-list MGMT: no longer defined, but still used by 2: interface port-3 / access-group MGMT in"
    assert told in (estate.path / "told").read_text()
    (source,) = [one["source"] for one in estate.run("status", "--json").rows]
    for command in (["changes"], ["diff", source, "--form", "outline"]):
        out = estate.run(*command).out
        assert "! access-list MGMT  (leads nowhere)  no longer defined, but still used by 2" in out
        assert "(leads nowhere)" in out
    (change,) = (
        one for row in estate.run("diff", source, "--json").rows for one in row["changes"] if one["how"] == "unresolved"
    )
    assert change["weight"] == 9


def test_hostile_texts_take_no_time() -> None:
    old = "".join(f"list n{n}\n use n{(n * 7) % 4000}\n" for n in range(4000))
    words = old + "list x\n use " + " ".join(f"w{n}" for n in range(50_000)) + "\n"
    for new in (words, old.replace("list n7\n", ""), old + "list x\n use y\n", "same same\n" * 100_000):
        changes = compare_exports({"p": old.encode()}, {"p": new.encode()}, _MASKS)
        assert fingerprints(changes, Reader([]))
        assert all(Weights().of(one).number >= 0 for part in changes for one in part.changes)


def test_a_name_that_stands_everywhere_is_not_said_to_be_defined_nowhere() -> None:
    users = "".join(f"interface port-{n}\n access-group {'EDGE-A' if n % 2 else 'EDGE-B'} in\n" for n in range(600))
    lists = "access-list EDGE-A\n permit x\naccess-list EDGE-B\n permit y\n"
    assert _unresolved(users + lists, users + lists + "interface more\n access-group EDGE-A in\n") == []
