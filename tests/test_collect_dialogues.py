"""What interactive command lines do beyond answering: ask back, change their prompts, show menus; also over Telnet."""

from collections.abc import Iterator

import asyncssh
import pytest

from historon.collect.transports.dialogue import Dialogue, _not_filled_up
from historon.standins.background import Background
from historon.standins.capstan import Capstan, Fault, TelnetDoor
from tests.conftest import ELEVATION, ROUTER_CONFIG, EstateFolder, Result, collect, describe_estate, parts_of

_PROMPT = "prompt = '^[\\w.-]+##? ?$'\npager = '-- more --'"
_KEEP = '{ keep = "list settings active", as = "active.cfg", ends_with = "end" }'


def _estate(
    estate: EstateFolder, router: Capstan, steps: str = _KEEP, procedure: str = "", source: str = "", **also: str
) -> EstateFolder:
    return describe_estate(
        estate,
        over="ssh-shell",
        steps=" ".join(steps.split()),
        procedure=f'{_PROMPT}\nstep_deadline = "4s"\n{procedure}',
        source=f'address = "127.0.0.1"\nport = {router.port}\ncredentials = "c"\nhost_key = "{router.fingerprint}"\n{source}',
        **also,
    )


def _well(result: Result) -> None:
    assert result.code == 0, result.said


def test_privileges_are_raised_with_a_secret_of_their_own(estate: EstateFolder, router: Capstan) -> None:
    router.locked = True
    elevate = """{ send = "elevate", answers = { 'password: ?$' = "{elevation}" } }, """
    assert "Unknown command" in collect(_estate(estate, router)).err
    _well(collect(_estate(estate, router, elevate + _KEEP)))
    assert parts_of(estate)["active.cfg"] == ROUTER_CONFIG.encode()
    result = collect(estate, UP="wrong-nest")
    assert "wrong-nest" not in result.said
    assert 'the answer is "Access denied"' in result.err


def test_questions_are_answered_where_they_are_foreseen(estate: EstateFolder, router: Capstan) -> None:
    sure = """{ keep = "erase log", as = "log.txt", answers = { '\\[yes/no\\] ?$' = "yes" } }"""
    _well(collect(_estate(estate, router, sure)))
    assert parts_of(estate)["log.txt"].endswith(b"erased\n")
    result = collect(_estate(estate, router, '{ keep = "erase log", as = "log.txt" }', 'deadline = "3s"'))
    assert "timed out after 3s" in result.err or "without a complete answer" in result.err
    assert "Erase the log? [yes/no]" in result.err


def test_menus_have_prompts_of_their_own(estate: EstateFolder, router: Capstan) -> None:
    steps = """{ send = "menu", prompt = 'Choice: ?$' }, { keep = "2", as = "active.cfg", prompt = 'Choice: ?$' }, { send = "0" }"""
    _well(collect(_estate(estate, router, steps)))
    assert b"interface port-29" in parts_of(estate)["active.cfg"]


def test_a_line_may_be_typed_slowly(estate: EstateFolder, router: Capstan) -> None:
    router.fault = Fault.SLOW
    _well(collect(_estate(estate, router, procedure='typing = "5ms"')))
    assert parts_of(estate)["active.cfg"] == ROUTER_CONFIG.encode()


def test_versions_and_clocks_are_told(estate: EstateFolder, router: Capstan) -> None:
    steps = """{ send = "list version", learn = { version = 'pattern:version (\\S+),' } },
      { clock = "list clock", format = "%H:%M:%S UTC %d %b %Y" },
      { keep = "list settings active", as = "active.cfg", when = { version = '^4\\.' } },
      { keep = "show configuration", as = "active.cfg", when = { version = '^5\\.' } }"""
    _well(collect(_estate(estate, router, steps)))
    router.version = "5.1"
    router.fault = Fault.CLOCK
    result = collect(estate)
    assert "unchanged" in result.out
    assert "its clock is 2h" in result.out or "its clock is 1h 59m" in result.out
    assert "its clock" not in collect(estate).said, "once for a version"
    router.fault = None
    collect(estate)
    router.fault = Fault.CLOCK
    assert "its clock" in collect(estate).out, "it was right meanwhile"
    text = (estate.path / "historon.toml").read_text()
    router.fault = None
    collect(estate)
    router.fault = Fault.CLOCK
    estate.write(text.replace('name = "s"', 'name = "s"\nclock = "known wrong"'))
    assert "its clock" not in collect(estate).said


def test_passwords_may_be_asked_for_as_questions(estate: EstateFolder, router: Capstan) -> None:
    router.interactive_only = True
    _well(collect(_estate(estate, router)))
    result = collect(estate, PW="mutiny-1789")
    assert "refused the log-in" in result.err
    assert "mutiny-1789" not in result.said


def test_old_algorithms_are_off_until_a_source_allows_them(estate: EstateFolder, background: Background) -> None:
    old = Capstan("t", lambda: ROUTER_CONFIG)
    old.options = {
        "kex_algs": ["diffie-hellman-group14-sha1"],
        "encryption_algs": ["aes128-cbc"],
        "mac_algs": ["hmac-sha1"],
    }
    background.run(old.start())
    result = collect(_estate(estate, old, procedure="tries = 5"))  # either side may be the first to hang up
    assert "no algorithm in common" in result.err
    assert 'allow its algorithms for this source only: legacy = ["diffie-hellman-group14-sha1"]' in result.err, (
        result.err
    )
    legacy = 'legacy = ["diffie-hellman-group14-sha1", "aes128-cbc", "hmac-sha1"]'
    _well(collect(_estate(estate, old, source=legacy)))
    background.run(old.stop())
    result = _estate(estate, old, source='legacy = ["rot13", "aes-cbc"]').run("status")
    assert '"rot13" is not an algorithm that can be allowed' in result.err
    assert 'did you mean "aes192-cbc"?' in result.err or "aes" in result.err


def test_through_a_jump_host(estate: EstateFolder, router: Capstan, background: Background) -> None:
    jump = Capstan("jump", lambda: "end\n")
    jump.forwards = True
    background.run(jump.start())
    via = f'[jumps.yard]\naddress = "127.0.0.1"\nport = {jump.port}\ncredentials = "c"\nhost_key = "{jump.fingerprint}"\nat_once = 1\n'
    _well(collect(_estate(estate, router, source='via = "yard"', more=via)))
    assert parts_of(estate)["active.cfg"] == ROUTER_CONFIG.encode()
    changed = via.replace(jump.fingerprint, router.fingerprint)
    result = collect(_estate(estate, router, source='via = "yard"', more=changed))
    assert "jump host yard: THE HOST KEY HAS CHANGED" in result.err
    background.run(router.stop())
    assert (
        "the jump host cannot reach 127.0.0.1" in collect(_estate(estate, router, source='via = "yard"', more=via)).err
    )
    background.run(jump.stop())
    assert "jump host yard: 127.0.0.1" in collect(estate).err
    assert 'there is no "yart"' in _estate(estate, router, source='via = "yart"', more=via).run("status").err
    background.run(router.start())


# Telnet


@pytest.fixture
def door(router: Capstan, background: Background) -> Iterator[TelnetDoor]:
    made = TelnetDoor(router)
    background.run(made.start())
    yield made
    background.run(made.stop())


def _over_telnet(estate: EstateFolder, port: int, procedure: str = "") -> EstateFolder:
    return describe_estate(
        estate,
        over="telnet",
        steps='{ send = "paging off" }, ' + _KEEP,
        procedure=f'{_PROMPT}\nstep_deadline = "4s"\n{procedure}',
        source=f'address = "127.0.0.1"\nport = {port}\ncredentials = "c"',
    )


def test_the_oldest_speak_telnet(estate: EstateFolder, door: TelnetDoor) -> None:
    _well(collect(_over_telnet(estate, door.port)))
    assert parts_of(estate)["active.cfg"] == ROUTER_CONFIG.encode()
    result = collect(estate, PW="mutiny-1789")
    assert "127.0.0.1 refused the log-in" in result.err
    assert "mutiny-1789" not in result.said
    result = collect(_over_telnet(estate, door.port, "login_prompt = 'Benutzer:'"))
    assert "compare the last line with the procedure's prompt, login_prompt and password_prompt" in result.err


def test_nobody_listens(estate: EstateFolder) -> None:
    assert "connection refused" in collect(_over_telnet(estate, 1)).err


def test_asyncssh_knows_what_is_called_old() -> None:
    from historon.estate import LEGACY

    everything = [
        name.decode()
        for known in (
            asyncssh.kex.get_kex_algs,
            asyncssh.encryption.get_encryption_algs,
            asyncssh.mac.get_mac_algs,
            asyncssh.public_key.get_public_key_algs,
        )
        for name in known()
    ]
    assert set(LEGACY) <= set(everything)


def test_the_elevation_is_a_secret(estate: EstateFolder, router: Capstan) -> None:
    steps = """{ send = "elevate", answers = { 'password: ?$' = "{elevation}" } }, """ + _KEEP
    result = _estate(estate, router, steps).run("rehearse", "s", PW="harbour-light", UP=ELEVATION)
    _well(result)
    assert ELEVATION not in result.said


def test_a_question_that_was_wiped_with_blanks_leaves_none_behind_the_next_line() -> None:
    """A pager on a plain terminal writes the next line over its question, filled up to the question's length."""
    length = len(b"--More--(12%)")
    for text, kept in (
        (b"mtu 1500".ljust(length) + b"\r\nend\r\n", b"mtu 1500\r\nend\r\n"),
        (b"a line that is longer  \nend\n", b"a line that is longer  \nend\n"),
        (b"ends so  \nend\n", b"ends so  \nend\n"),  # blanks of its own stay
    ):
        line, at = _not_filled_up(b"before\n" + text, len(b"before\n"), length)
        assert line + (b"before\n" + text)[at:] == kept


def test_an_answer_of_carriage_returns_or_of_questions_takes_no_longer_for_its_length(estate: EstateFolder) -> None:
    """Both took hours once, as each was looked at from each of its places."""
    session = Dialogue.__new__(Dialogue)  # type: ignore[type-abstract]
    session._buffer = bytearray(b"\r" * 3_000_000 + b"x\n")
    session._cuts = []
    assert session._answer() == b"\r" * 3_000_000 + b"x\n"
    session._buffer = bytearray(b"\r        \rline\n" * 200_000)
    session._cuts = [(at, 8) for at in range(0, len(session._buffer), 15)]
    assert session._answer() == b"line\n" * 200_000
