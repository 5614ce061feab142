"""Equal changes on many sources are one family, others are not; what weighs most comes first; with known truth."""

import random
from collections import Counter, defaultdict
from datetime import UTC, datetime, timedelta
from itertools import combinations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from historon.compare import Change, How, compare_exports
from historon.estate import Pattern, WeightRule
from historon.insight import (
    Family,
    Reader,
    Weights,
    families,
    fingerprints,
    is_packed,
    packed,
    texts_of,
    unpacked_fingerprints,
)
from historon.store import Changed
from historon.versions import Masks
from tests.conftest import EstateFolder, sampled
from tests.generated import nights

START = datetime(2026, 6, 1, 2, 0, tzinfo=UTC)
_MASKS = Masks(key=b"made up")


def _changed(source: str, number: int, old: str, new: str, day: int = 0) -> Changed:
    found = compare_exports({"p": old.encode()}, {"p": new.encode()}, _MASKS)
    data = packed(fingerprints(found, Reader([source], texts_of(found))))
    return Changed(source, number, START + timedelta(days=day), 1, 1, data)


def test_fingerprints_come_back_as_they_were() -> None:
    found = fingerprints(compare_exports({"p": b"a\nb\n"}, {"p": b"a\nc\nd\n"}, _MASKS), Reader([]))
    assert list(unpacked_fingerprints(packed(found))) == found


def test_names_addresses_and_numbers_of_its_own_make_no_other_family() -> None:
    made: list[Family] = families(
        [
            _changed(
                f"edge-{n}",
                2,
                f"hostname edge-{n}\nlog 10.0.{n}.1\n",
                f"hostname edge-{n}\nlog 10.0.{n}.9 for edge-{n}\n",
            )
            for n in range(1, 6)
        ]
    )
    assert [len(one.members) for one in made] == [5]


@settings(max_examples=40)
@given(st.integers(0, 10**6))
def test_generated_families_are_put_together_right(seed: int) -> None:
    rng = random.Random(seed)
    base = "".join(f"interface port-{n}\n  mtu 1500\n" for n in range(9))
    edits = ("telnet on\n", "banner word\n", "route x via y\n")
    having = {edit: {n for n in range(8) if rng.random() < 0.5} for edit in edits}
    changed = []
    for n in range(8):
        own = "".join(edit for edit in edits if n in having[edit])
        if own:
            changed.append(_changed(f"s{n}", 2, base, base + own))
    groups: dict[frozenset[int], int] = {}
    for members in having.values():
        if members:
            groups[frozenset(members)] = groups.get(frozenset(members), 0) + 1
    made = {frozenset(int(source[1:]) for source in one.sources): len(one.keys) for one in families(changed)}
    assert made == groups


def _edit(source: str, day: int, old: str, new: str) -> Changed:
    lines = "interface port-1\n  {}\n  up\ninterface port-2\n  up\n"
    return _changed(source, day + 2, lines.format(old), lines.format(new), day)


@pytest.mark.parametrize(
    "others",
    [
        ("mtu 1500", "mtu 1400"),  # to another value
        ("mtu 9000", "mtu 1500"),  # back
        ("speed 1500", "speed 9000"),  # of another setting
        ("permit 10.1.0.0/16", "permit 0.0.0.0/0"),
    ],
)
def test_other_values_are_other_families(others: tuple[str, str]) -> None:
    made = families([_edit("a", 0, "mtu 1500", "mtu 9000"), _edit("b", 0, *others)])
    assert sorted(one.sources for one in made) == [["a"], ["b"]]


def test_what_is_its_own_is_learnt_from_its_networks_and_its_loopback() -> None:
    def text(n: int, rule: str) -> str:
        addresses = f"interface loopback0\n ip address 10.255.0.{n}/32\ninterface lan\n ip address 172.{16 + n}.8.1 255.255.255.0\n"
        return f"{addresses}access-list edge\n deny ip 0.0.0.0/0\n{rule}"

    same = [
        _changed(f"s{n}x", 2, text(n, ""), text(n, f" permit tcp 172.{16 + n}.8.0/24 port 443\n")) for n in range(4, 8)
    ]
    number = [_changed(f"s{n}x", 3, text(n, ""), text(n, f" permit tcp 10.9.9.9/32 port {n}\n")) for n in range(4, 8)]
    other = [_changed("t", 2, text(9, ""), text(9, " permit tcp 172.31.8.0/24 port 443\n"))]
    made = families([*same, *number, *other])
    assert sorted(len(one.members) for one in made) == [1, 4, 4]
    assert [one.remarks for one in made if len(one.members) == 4] == [
        ["each with its own names, addresses or numbers"]
    ] * 2


def test_sections_with_the_same_heading_and_other_lines_are_two_families() -> None:
    base = "interface port-1\n  up\n"
    one, other = (f"{base}access-list new\n  permit tcp {target} port 443\n" for target in ("10.9.0.0/16", "0.0.0.0/0"))
    made = families([_changed("a", 2, base, one), _changed("b", 2, base, other)])
    assert [one.sources for one in made] == [["b"], ["a"]]


def test_the_one_that_did_otherwise_is_named_before_the_many() -> None:
    many = [_edit(f"s{n}", 0, "log 10.0.0.1", "log 10.0.0.9") for n in range(12)]
    made = families([*many, _edit("x", 0, "log 10.0.0.1", "log 203.0.113.9")])
    assert [one.sources for one in made] == [["x"], sorted(f"s{n}" for n in range(12))]
    assert made[0].remarks == [f"unlike 12 others, see {made[1].handle}"]
    assert made[1].remarks == []


def test_who_came_to_the_same_from_another_value_did_nothing_otherwise() -> None:
    many = [_edit(f"s{n}", 0, "log 10.0.0.1", "log 10.0.0.9") for n in range(12)]
    made = families([*many, _edit("x", 0, "log 203.0.113.9", "log 10.0.0.9")])
    assert [one.unlike for one in made] == [None, None]


def test_what_undoes_an_earlier_edit_says_so() -> None:
    there, back = _edit("a", 0, "mtu 1500", "mtu 9000"), _edit("a", 3, "mtu 9000", "mtu 1500")
    first, second = sorted(families([there, back]), key=lambda one: one.first)
    assert second.remarks == [f"undoes {first.handle} of 3 days before"]
    assert first.remarks == []
    (alone,) = families([back], before=[there])
    assert alone.remarks == second.remarks
    (other,) = families([_edit("b", 3, "mtu 9000", "mtu 1500")], before=[there])
    assert other.remarks == []


def test_a_section_that_came_and_went_is_undone() -> None:
    base = "interface port-1\n  up\n"
    more = f"{base}interface port-2\n  mtu 1500\n  up\n"
    (went,) = families([_changed("a", 3, more, base, 1)], before=[_changed("a", 2, base, more)])
    assert went.undoes is not None


def test_to_and_fro_is_one_entry() -> None:
    nightly = [
        _edit("a", day, *(("mtu 1500", "mtu 9000") if day % 2 else ("mtu 9000", "mtu 1500"))) for day in range(8)
    ]
    (one,) = families(nightly)
    assert one.remarks == ["to and fro, 8 times in 8 days"]
    assert len(families(nightly[:2])) == 2


def test_fingerprints_of_earlier_versions_are_found_anew() -> None:
    assert not is_packed(bytes(9))
    assert list(unpacked_fingerprints(bytes(18))) == []


# ---- known truth ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("seed", sampled(1, [1, 2]))
def test_thirty_nights_of_devices_in_six_styles_are_put_together_as_they_were_edited(seed: int) -> None:
    changed, truth, ranks = [], {}, []
    for night in nights(seed):
        of_night = []
        for number, (old, new, label) in night.edited.items():
            part = label.rpartition(" in ")[2]  # each style comes in files of its own name
            found = compare_exports({part: old}, {part: new}, _MASKS)
            told = ";".join(f"{one.old} {one.new}" for one in found[0].changes if one.how is How.EDITED)
            name, at = f"berth-{number + 1}", START + timedelta(days=night.number)
            families_of = packed(fingerprints(found, Reader([name], texts_of(found))))
            of_night.append(Changed(name, night.number, at, 1, 1, families_of))
            truth[name, night.number] = (label, "" if "location" in label or "opened" in label else told)
        if night.opened is not None:
            having = [[truth[one.source, one.number][0] for one in family.members] for family in families(of_night)]
            ranks.append(next(at for at, labels in enumerate(having, 1) if night.opened in labels))
        changed += of_night
    where = defaultdict(set)
    for family in families(changed):
        for one in family.members:
            where[one.source, one.number].add(family.handle)
    pairs = Counter(
        (truth[one] == truth[other], bool(where[one] & where[other])) for one, other in combinations(sorted(truth), 2)
    )
    right = pairs[True, True]
    assert right > 300
    assert right / (right + pairs[False, True]) >= 0.97  # precision
    assert right / (right + pairs[True, False]) >= 0.97  # recall
    assert ranks == [1] * len(ranks)
    assert len(ranks) >= 4


# ---- what matters first -----------------------------------------------------------------------------------------------


def _weight(path: str, old: str, new: str) -> tuple[int, str]:
    how = How.EDITED if old and new else How.ADDED if new else How.REMOVED
    found = Weights().of(Change(how, path, old, new))
    return found.number, found.why


@pytest.mark.parametrize(
    ("path", "old", "new", "why"),
    [
        ("access-list edge", "deny ip 10.0.0.0/8", "permit ip 10.0.0.0/8", "deny became permit"),
        ("access-list edge", "", "permit ip any any", "permits any"),
        ("access-list edge", "permit tcp 10.0.0.0/8", "permit tcp 0.0.0.0/0", "permits any"),
        ("rules / 3 / source", "10.0.0.0/8", "::/0", "opened to any"),
        ("/config/rule[@name='a']/from", "10.0.0.0/8", "any", "opened to any"),
        ("chain input", "tcp dport 22 drop", "", "no longer denied"),
        ("", "%ops ALL=(ALL) ALL", "%ops ALL=(ALL) NOPASSWD: ALL", "no password asked"),
        ("PermitRootLogin", "no", "yes", "root may log in"),
        ("PasswordAuthentication", "no", "yes", "log-in made easier"),
        ("tls_verify", "yes", "no", "verification switched off"),
        ("/tls/insecure_skip_verify", "false", "true", "verification switched off"),
        ("", "", "local all all trust", "log-in without a password"),
        ("SELINUX", "enforcing", "permissive", "protection switched off"),
        ("server / listen", "127.0.0.1:80", "0.0.0.0:80", "listens on all addresses"),
        ("bind_address", "127.0.0.1", "*", "listens on all addresses"),
        ("user watch / role", "viewer", "admin", "gives all rights"),
        ("line vty / privilege level", "1", "privilege 15", "gives all rights"),
        ("", "", "telnet server enable", "a service without encryption"),
        ("ssl_protocols", "TLSv1.2", "TLSv1.0 TLSv1.2", "weaker encryption"),
        ("ssl", "on", "off", "encryption switched off"),
        ("", "", "username nobody role viewer", "an account came"),
        ("", "ip route 0.0.0.0/0 10.0.0.1", "ip route 0.0.0.0/0 10.9.9.9", "the default route"),
        ("network / gateway4", "10.0.0.1", "10.0.0.2", "the default route"),
        ("ssl_certificate", "/etc/a.pem", "/etc/b.pem", "a certificate replaced"),
        ("", "", "no logging host 10.0.0.9", "no longer logged"),
        ("", "logging host 10.0.0.9", "", "no longer logged"),
        ("exports", "/srv 10.0.0.0/8(rw)", "/srv 10.0.0.0/8(rw,no_root_squash)", "no password asked"),
        ("user watch", "password [secret 1]", "password [secret 2]", "a secret replaced"),
    ],
)
def test_what_opens_weighs_much_and_says_why(path: str, old: str, new: str, why: str) -> None:
    number, said = _weight(path, old, new)
    assert said == why
    assert number >= 6


@pytest.mark.parametrize(
    ("path", "old", "new"),
    [
        ("access-list edge", "deny ip 10.0.0.0/8", "permit ip 10.0.0.0/8"),
        ("access-list edge", "", "permit ip any any"),
        ("tls_verify", "yes", "no"),
        ("server / listen", "127.0.0.1:80", "0.0.0.0:80"),
        ("user watch / role", "viewer", "admin"),
        ("ssl_protocols", "TLSv1.2", "TLSv1.0 TLSv1.2"),
        ("", "logging host 10.0.0.9", "no logging host 10.0.0.9"),
    ],
)
def test_what_closes_weighs_less_than_what_opens(path: str, old: str, new: str) -> None:
    assert _weight(path, new, old)[0] < _weight(path, old, new)[0]


def test_a_section_weighs_as_much_as_its_gravest_line() -> None:
    change = Change(How.ADDED, "", new="access-list guests", under=("permit tcp 10.0.0.0/8", "permit ip any any"))
    assert Weights().of(change).why == "permits any"
    assert Weights().of(Change(How.REMOVED, "", old="access-list guests", under=change.under)).number < 6


def test_what_is_only_described_weighs_nothing() -> None:
    assert _weight("interface port-1 / description", "to any", "permit any") == (0, "")
    assert _weight("mtu", "1500", "9000") == (2, "")
    for line in (
        "remark permit any",
        "description to any",
        "snmp-server location any",
        "access-list 10 remark permit any",
    ):
        assert _weight("", "", line) == (0, "")


def test_a_block_that_is_called_like_a_description_is_none() -> None:
    assert _weight("server / location /admin", "deny all;", "allow all;") == (9, "permits any")
    assert _weight("", "", "username evil description helper") == (7, "an account came")


def test_an_estate_adds_rules_of_its_own() -> None:
    rule = WeightRule(pattern=Pattern.parse("plant-net"), added=(9, "opens the plant"), removed=(1, ""))
    weights = Weights([rule])
    assert weights.of(Change(How.ADDED, "zone x", new="member plant-net")).why == "opens the plant"
    assert weights.of(Change(How.REMOVED, "interface x", old="member plant-net")).number == 2


@pytest.mark.parametrize(
    ("written", "said"),
    [
        ('pattern = "("', "weights[1].pattern: not a regular expression"),
        ('pattern = "x"', "weights[1]: weighs nothing (add added, removed or edited"),
        ('pattern = "x"\nadded = [10, "y"]', "weights[1].added[1]: expected a whole number <= 9"),
        ('pattern = "x"\nadded = ["y", 9]', "weights[1].added[1]: expected a whole number, found text in quotes"),
        ('pattern = "x"\nadded = [9]', "weights[1].added: expected 2 values, found 1"),
        ('pattern = "x"\nadded = 9', "weights[1].added: expected a list, found a whole number"),
        (
            'pattern = "x"\nadded = [9, "y"]\nabout = "thing"',
            '"thing" is not possible here (one of access, other, route, secret)',
        ),
    ],
)
def test_a_wrong_weight_is_refused_with_its_place(estate: EstateFolder, written: str, said: str) -> None:
    estate.write(f'[estate]\nname = "Test"\n[[weights]]\n{written}\n')
    result = estate.run("changes")
    assert result.code == 4
    assert said in result.err


def test_hostile_lines_take_no_time() -> None:
    line = "permit " * 200_000
    assert Weights().of(Change(How.EDITED, line, line, line + "any")).number >= 5
    found = compare_exports({"p": b"a\n"}, {"p": b"a\n" + b"1.2.3.4 " * 200_000 + b"\n"}, _MASKS)
    assert fingerprints(found, Reader(["1", "x9"], texts_of(found)))


def test_the_name_of_a_part_may_be_the_sources_own() -> None:
    def changed(source: str) -> Changed:
        found = compare_exports({f"{source}/a.cfg": b"mtu 1500\n"}, {f"{source}/a.cfg": b"mtu 9000\n"}, _MASKS)
        return Changed(source, 2, START, 1, 1, packed(fingerprints(found, Reader([source], texts_of(found)))))

    assert [len(one.members) for one in families([changed("quay-edge-1"), changed("quay-edge-2")])] == [2]
