"""Collecting over SSH from a Capstan router that misbehaves in every way it can."""

import os
import socket
import threading
from collections.abc import Callable, Iterator

import pytest

from historon.standins.background import Background
from historon.standins.capstan import Capstan, Fault
from tests.conftest import ROUTER_CONFIG, EstateFolder

RouterEstate = Callable[..., EstateFolder]


def _content(estate: EstateFolder, number: int = 1) -> bytes:
    store = estate.store()
    return b"".join(store.read(part) for part in store.parts("t", number))


def test_pages_echo_banner_and_carriage_returns_leave_no_trace(router_estate: RouterEstate) -> None:
    """100 lines come in pages; descriptions hold what looks like a prompt."""
    estate = router_estate()
    result = estate.run("collect")
    assert (result.code, "new        @1" in result.out) == (0, True), result.said
    assert _content(estate) == ROUTER_CONFIG.encode()


def test_slow_output_is_waited_for(router_estate: RouterEstate, router: Capstan) -> None:
    router.fault = Fault.SLOW
    estate = router_estate()
    assert estate.run("collect").code == 0
    assert _content(estate) == ROUTER_CONFIG.encode()


@pytest.mark.parametrize(
    ("fault", "procedure", "told"),
    [
        (Fault.MUTE, 'step_deadline = "2s"', "timed out after 2s without a complete answer"),
        (Fault.ENDLESS, 'max_size = "200kB"', "the answer exceeds 200 kB"),
        (Fault.CLOSES, "", "closed the connection in the middle of an answer"),
        (Fault.MUTE, 'deadline = "3s"', "timed out after 3s, the procedure's deadline"),
    ],
)
def test_each_fault_is_told_with_its_step_and_advice(
    router_estate: RouterEstate, router: Capstan, fault: Fault, procedure: str, told: str
) -> None:
    router.fault = fault
    estate = router_estate(procedure=procedure)
    result = estate.run("collect")
    assert result.code == 3
    assert told in result.said
    assert "try      " in result.err
    assert "where    step 1 of 1 (keep list settings active)" in result.err
    assert estate.store().versions("t") == []


def test_half_an_export_is_set_aside_and_never_the_last_good_version(
    router_estate: RouterEstate, router: Capstan
) -> None:
    estate = router_estate()
    assert estate.run("collect").code == 0
    router.fault = Fault.HALF
    result = estate.run("collect")
    assert result.code == 3
    assert 'active.cfg does not end with "end"' in result.err
    assert estate.run("show", "t", "--reveal").out == ROUTER_CONFIG
    assert estate.run("show", "t@2").out == "\n".join(ROUTER_CONFIG.splitlines()[:47]) + "\n"
    assert "suspect" in estate.run("versions", "t").out
    why = 't@2 is suspect: active.cfg does not end with "end"'
    for command in (("show", "t@2"), ("diff", "t@1", "t@2"), ("diff", "t@2", "file:historon.toml")):
        assert f"historon: warning: {why}" in estate.run(*command).err
    refused = estate.run("restore", "t@2", "--to", "back")
    assert (refused.code, why in refused.err, "--suspect" in refused.err) == (2, True, True)
    assert not (estate.path / "back").exists()
    assert "t@2 (SUSPECT, from " in estate.run("restore", "t@2", "--to", "back", "--suspect").out
    router.fault = None
    assert "unchanged" in estate.run("collect").out


def test_an_error_line_is_suspect_when_kept_and_a_failure_when_sent(
    router_estate: RouterEstate, router: Capstan
) -> None:
    router.fault = Fault.REFUSES
    estate = router_estate()
    assert 'active.cfg holds an error: "Unknown command: list settings active"' in estate.run("collect").err
    text = (estate.path / "historon.toml").read_text().replace("steps = [", 'steps = [{ send = "no such thing" }, ')
    estate.write(text)
    result = estate.run("collect")
    assert "step 1 of 2 (send no such thing)" in result.err
    assert 'the answer is "Unknown command: no such thing"' in result.err


@pytest.mark.parametrize(("step", "told"), [(', min_size = "1MB"', "fewer than 1.0 MB")])
def test_an_export_that_is_too_small_is_suspect(router_estate: RouterEstate, step: str, told: str) -> None:
    assert told in router_estate(step=step).run("collect").err


def test_terminal_escapes_are_stored_as_they_are_and_shown_as_text(
    router_estate: RouterEstate, router: Capstan
) -> None:
    router.fault = Fault.ESCAPES
    estate = router_estate()
    assert estate.run("collect").code == 0
    assert b"\x1b]0;owned\x07\x1b[2J" in _content(estate)
    shown = _on_a_terminal(estate, "show", "t")
    assert "\\x1b]0;owned\\x07\\x1b[2J" in shown
    assert "\\u202e" in shown
    assert "\x1b]0;" not in shown


def _on_a_terminal(estate: EstateFolder, *arguments: str) -> str:
    import pexpect

    from tests.conftest import PROGRAM

    child = pexpect.spawn(str(PROGRAM), list(arguments), cwd=str(estate.path), encoding="utf-8", dimensions=(50, 120))
    child.expect(pexpect.EOF)
    return str(child.before)


def test_secrets_never_appear_on_a_terminal_nor_in_a_diff(router_estate: RouterEstate) -> None:
    estate = router_estate()
    estate.run("collect")
    assert "pw-canary-1234" not in _on_a_terminal(estate, "show", "t")
    assert "pw-canary-1234" in _on_a_terminal(estate, "show", "t", "--reveal")
    assert "pw-canary-1234" not in estate.run("show", "t").out, "a pipe often ends on a terminal"
    assert estate.run("show", "t", "--reveal").out == ROUTER_CONFIG


def test_a_refused_log_in_says_so_and_shows_no_password(router_estate: RouterEstate, router: Capstan) -> None:
    estate = router_estate()
    router.password = "another"
    result = estate.run("collect")
    assert result.code == 3
    assert "refused the log-in" in result.err
    assert "harbour-light" not in result.said


def test_first_contact_needs_a_person_or_a_word(router_estate: RouterEstate, router: Capstan) -> None:
    estate = router_estate(unpinned="yes")
    result = estate.run("collect")
    assert result.code == 3
    assert f"first contact: 127.0.0.1 shows ssh-ed25519 {router.fingerprint}" in result.err
    assert estate.run("collect", "--trust-first-contact").code == 0
    known = estate.path / "known_hosts"
    assert known.stat().st_mode & 0o777 == 0o600
    assert known.read_text().startswith(f"[127.0.0.1]:{router.port} ssh-ed25519 ")
    assert estate.run("collect").code == 0


def test_what_failed_beside_a_first_contact_is_not_forgotten(router_estate: RouterEstate) -> None:
    more = '[[sources]]\nname = "other"\naddress = "127.0.0.1"\nport = 9\nprocedure = "capstan"\ncredentials = "r"\n'
    result = router_estate(unpinned="yes", more=more).run("collect", "--trust-first-contact")
    assert result.code == 3
    assert "2 sources in" in result.out
    assert "1 new, 1 failed" in result.out


def test_first_contact_can_be_confirmed_on_a_terminal(router_estate: RouterEstate, router: Capstan) -> None:
    import pexpect

    from tests.conftest import PROGRAM

    estate = router_estate(unpinned="yes")
    child = pexpect.spawn(
        str(PROGRAM), ["collect"], cwd=str(estate.path), encoding="utf-8", dimensions=(50, 150), timeout=30
    )
    child.expect("Trust this key and collect now")
    assert router.fingerprint in str(child.before)
    child.sendline("y")
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == 0
    assert estate.store().state("t").good == 1


def test_the_question_about_a_first_contact_can_be_interrupted(router_estate: RouterEstate) -> None:
    import pexpect

    from tests.conftest import PROGRAM

    estate = router_estate(unpinned="yes")
    child = pexpect.spawn(str(PROGRAM), ["collect"], cwd=str(estate.path), encoding="utf-8", timeout=30)
    child.expect("Trust this key and collect now.*: ")
    child.sendintr()
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == 130
    assert estate.store().state("t").good is None
    assert estate.run("collect").code == 3, "nothing was trusted"


@pytest.mark.parametrize("pinned", [True, False])
def test_a_changed_host_key_is_refused_loudly_and_nothing_is_sent(
    router_estate: RouterEstate, router: Capstan, pinned: bool
) -> None:
    import asyncssh

    estate = router_estate(**({} if pinned else {"unpinned": "yes"}))
    assert estate.run("collect", "--trust-first-contact").code == 0
    background = Background()
    impostor = Capstan("t", lambda: "end\n")
    impostor.host_key = asyncssh.generate_private_key("ssh-ed25519")
    background.run(impostor.start())
    text = (estate.path / "historon.toml").read_text()
    estate.write(text.replace(f"port = {router.port}", f"port = {impostor.port}"))
    if not pinned:
        known = estate.path / "known_hosts"
        known.write_text(known.read_text().replace(str(router.port), str(impostor.port)))
    result = estate.run("collect", "--trust-first-contact")
    background.run(impostor.stop())
    background.stop()
    assert result.code == 3
    assert "THE HOST KEY HAS CHANGED" in result.err
    assert "Nothing was sent" in result.err


@pytest.fixture
def silent_port() -> Iterator[int]:
    """A port that accepts connections and never says a word; and closes them when the test is over."""
    with socket.create_server(("127.0.0.1", 0)) as server:
        yield server.getsockname()[1]


def _close_first(server: socket.socket) -> None:
    server.accept()[0].close()


def test_one_bad_source_harms_no_other(router_estate: RouterEstate, silent_port: int) -> None:
    template = '[[sources]]\nname = "{}"\naddress = "{}"\nport = {}\nprocedure = "capstan"\ncredentials = "r"\n'
    with socket.create_server(("127.0.0.1", 0)) as closing, socket.socket() as bound:
        bound.bind(("127.0.0.1", 0))
        threading.Thread(target=_close_first, args=[closing], daemon=True).start()
        more = template.format("refused", "127.0.0.1", bound.getsockname()[1])
        more += template.format("closing", "127.0.0.1", closing.getsockname()[1])
        more += template.format("nowhere", "no-such-host.invalid", 22)
        more += template.format("silent", "127.0.0.1", silent_port)
        estate = router_estate(more=more, procedure='deadline = "3s"')
        result = estate.run("collect")
    assert result.code == 3
    assert "1 new, 4 failed" in result.out
    assert estate.store().state("t").good == 1
    for told in (
        "where    connecting and logging in",
        "connection refused",
        "ended the connection",
        "timed out after 3s",
    ):
        assert told in result.err, result.said


def test_the_known_hosts_file_may_be_a_real_one_or_wrong(router_estate: RouterEstate, router: Capstan) -> None:
    estate = router_estate(unpinned="yes")
    line = f"[127.0.0.1]:{router.port} {router.host_key.export_public_key().decode()}"
    estate.write("# a comment\n" + line, "known_hosts")
    assert estate.run("collect").code == 0
    os.chmod(estate.path / "known_hosts", 0o600)
    estate.write("\0\0 garbage", "known_hosts")
    assert estate.run("collect").code == 3


def test_what_may_pass_is_tried_again(router_estate: RouterEstate, router: Capstan) -> None:
    router.fault, router.sessions_with_fault = Fault.CLOSES, 2
    estate = router_estate(procedure='tries = 3\nretry_pause = "50ms"')
    result = estate.run("collect")
    assert result.code == 0
    assert result.said.count("succeeded only on a later try, after: the device closed the connection") == 2
    assert _content(estate) == ROUTER_CONFIG.encode()


def test_it_is_given_up_after_so_many_tries(router_estate: RouterEstate, router: Capstan) -> None:
    router.fault, router.sessions_with_fault = Fault.CLOSES, 2
    result = router_estate(procedure='tries = 2\nretry_pause = "50ms"').run("collect")
    assert result.code == 3
    assert "; tried 2 times" in result.err


def test_a_refused_log_in_is_never_tried_again(router_estate: RouterEstate, router: Capstan) -> None:
    estate = router_estate(procedure='tries = 3\nretry_pause = "10m"')
    router.password = "another"
    result = estate.run("collect")
    assert result.code == 3
    assert "tried" not in result.said.replace("Historon does not repeat it", "")
