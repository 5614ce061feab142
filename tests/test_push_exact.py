"""What a push shows is what it sends: to the letter, noise included, and nothing else; one push of a source at a time."""

import re
import subprocess
from collections.abc import Callable

import pytest

from historon.estate import Lines
from historon.restore import lines_between
from historon.standins.capstan import Capstan, Fault
from historon.standins.capstan_settings import CapstanSettings
from tests.conftest import FILES_ESTATE, PROGRAM, EstateFolder
from tests.test_push import PUSH, Edge, _digest, _push, edge, router
from tests.waiting import wait_for

__all__ = ["edge", "router"]


@pytest.fixture
def typed(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """The settings that the router was given, line by line."""
    found: list[str] = []
    take = CapstanSettings.take

    def taking(self: CapstanSettings, line: str) -> str:
        found.append(line)
        return take(self, line)

    monkeypatch.setattr(CapstanSettings, "take", taking)
    return found


def _shown(out: str) -> list[str]:
    """The lines that are shown as those that will be typed."""
    block = out.partition("will be entered, exactly these:\n")[2].partition("\ndigest of this change")[0]
    return [line.strip() for line in block.splitlines() if line.strip()]


# ---- nothing but what is shown ---------------------------------------------------------------------------------------


def test_the_lines_that_are_shown_are_those_that_are_typed(
    router_estate: Callable[..., EstateFolder], edge: Edge, typed: list[str]
) -> None:
    estate = router_estate(procedure=PUSH)
    assert estate.run("collect").code == 0
    edge.edit("  deny any any", "  permit any 10.20.30.0/24\n  deny any any")
    edge.edit("time-server 10.20.0.10\n", "time-server 10.20.0.10\ntime-server 10.20.0.11\n")
    shown = estate.run("push", "t@1")
    assert estate.run("push", "t@1", "--confirm", _digest(shown)).code == 0
    assert typed == [line for line in _shown(shown.out) if line != "exit"]
    assert typed, shown.out


def _with_noise(estate: EstateFolder, noise: str) -> EstateFolder:
    text = (estate.path / "historon.toml").read_text()
    estate.write(re.sub(r"(?m)^noise = .*$", lambda _: f"noise = ['^! saved at ', '{noise}']", text))
    return estate


@pytest.mark.parametrize("noise", ["path:^access-list .* / ", "^  permit any any$"])
def test_what_noise_hides_is_not_typed(
    router_estate: Callable[..., EstateFolder], edge: Edge, typed: list[str], noise: str
) -> None:
    edge.edit("  deny any any", "  permit any any\n  deny any any")
    estate = _with_noise(router_estate(procedure=PUSH), noise)
    assert estate.run("collect").code == 0
    edge.edit("  permit any any\n", "")
    edge.edit("time-server 10.20.0.10\n", "time-server 10.20.0.10\ntime-server 10.20.0.11\n")
    shown = estate.run("push", "t@1")
    assert "permit any any" not in shown.out
    assert estate.run("push", "t@1", "--confirm", _digest(shown)).code == 0
    assert typed == ["no time-server 10.20.0.11"]
    assert "permit any any" not in edge.text, "nobody was shown it"


def test_a_value_that_is_noise_changes_neither_the_lines_nor_the_digest(
    router_estate: Callable[..., EstateFolder], edge: Edge, typed: list[str]
) -> None:
    estate = _with_noise(router_estate(procedure=PUSH), r"^time-server \S+ uses (\d+)")
    edge.edit("time-server 10.20.0.10\n", "time-server 10.20.0.10 uses 17\n")
    assert estate.run("collect").code == 0
    edge.edit("uses 17", "uses 18")
    edge.edit("  description berth 3 ticket hall", "  description berth 3 north door")
    first = estate.run("push", "t@1")
    edge.edit("uses 18", "uses 19")
    second = estate.run("push", "t@1")
    assert _digest(first) == _digest(second)
    assert not any("time-server" in line for line in _shown(second.out))
    assert estate.run("push", "t@1", "--confirm", _digest(first)).code == 0
    assert not any("time-server" in line for line in typed)


def test_a_file_is_shown_as_it_is_sent_with_its_noise(files_estate: EstateFolder) -> None:
    text = FILES_ESTATE.replace(
        'steps = [{ pull = "data" }]',
        'steps = [{ pull = "data" }]\npush = [{ put = "data", part = "data" }]\nnoise = [\'path:^hidden\', \'^hidden\']',
    )
    files_estate.write(text)
    file = files_estate.path / "data" / "a.conf"
    file.write_text("hidden permit any any\none\n")
    assert files_estate.run("collect").code == 0
    file.write_text("hidden deny any any\ntwo\n")
    shown = files_estate.run("push", "files@1")
    assert "+ hidden permit any any" in shown.out, "what is sent with the file is shown with it"
    assert files_estate.run("push", "files@1", "--confirm", _digest(shown)).code == 0
    assert file.read_text() == "hidden permit any any\none\n"


@pytest.mark.parametrize("line", ["banner is it you?", "banner a\tb"])
def test_what_typing_would_alter_is_refused_or_quoted(
    router_estate: Callable[..., EstateFolder], edge: Edge, typed: list[str], line: str
) -> None:
    estate = router_estate(procedure=PUSH)
    edge.edit("time-server 10.20.0.10\n", f"time-server 10.20.0.10\n{line}\n")
    assert estate.run("collect").code == 0
    edge.edit(f"{line}\n", "")
    refused = estate.run("push", "t@1")
    assert refused.code == 2, refused.said
    assert "which a command line takes for a key" in refused.err
    assert typed == []
    quoted = '[procedures.capstan.lines]\ntyped_as = { "?" = "%3F", "\\t" = " " }\n'
    name = re.search(r"\[procedures\.(\S+)\]", (estate.path / "historon.toml").read_text())
    assert name
    estate.write((estate.path / "historon.toml").read_text() + quoted.replace("capstan", name[1]))
    shown = estate.run("push", "t@1")
    assert line.replace("?", "%3F").replace("\t", " ") in _shown(shown.out)


# ---- all is known before anything is sent ----------------------------------------------------------------------------


def _described(estate: EstateFolder, push: str) -> EstateFolder:
    steps = f'steps = [{{ pull = "data" }}]\npush = [{{ send = ["touch", "began"] }}, {push}]'
    estate.write(FILES_ESTATE.replace('steps = [{ pull = "data" }]', steps))
    return estate


@pytest.mark.parametrize(
    "push", ['{ put = "{nowhere}/a", part = "data" }', '{ put = "x", part = "data", wrapped = "<{no}>{content}" }']
)
def test_a_value_that_is_not_there_is_a_mistake_of_the_estate_file(files_estate: EstateFolder, push: str) -> None:
    refused = _described(files_estate, push).run("doctor")
    assert refused.code in (1, 4), refused.said
    assert "nowhere" in refused.said or '"no"' in refused.said or "{no}" in refused.said


def test_a_part_that_the_version_does_not_have_is_told_before_anything_is_sent(files_estate: EstateFolder) -> None:
    estate = _described(files_estate, '{ put = "data", part = "data" }, { put = "x", part = "rules.xml" }')
    assert estate.run("collect").code == 0
    (estate.path / "data" / "a.conf").write_text("changed\n")
    refused = estate.run("push", "files@1")
    assert (refused.code, "files@1 has no part rules.xml, which the push steps put" in refused.err) == (2, True)
    assert not (estate.path / "began").exists()


# ---- what real routers taught ----------------------------------------------------------------------------------------


def _saying(text: str) -> list[str | None]:
    return list(text.split("\n"))


_BGP = "router bgp 1\n neighbor 10.0.0.1\n address-family v4\n  network 10.1.0.0/16\n exit-address-family\n"


@pytest.mark.parametrize(
    ("now", "wanted", "lines"),
    [
        # A section is left by its own word, which is no setting.
        (
            "router bgp 1\n neighbor 10.0.0.1\n",
            _BGP,
            ["router bgp 1", "  address-family v4", "    network 10.1.0.0/16", "    exit-address-family", "  exit"],
        ),
        (
            _BGP,
            _BGP.replace("10.1", "10.2"),
            [
                "router bgp 1",
                "  address-family v4",
                "    network 10.2.0.0/16",
                "    exit-address-family",
                "  exit",
            ],
        ),
        # Two numbers swapped: what would be the same entry twice is undone first, and the list is never empty.
        (
            "list A seq 5 permit any\nlist A seq 10 deny 10.0.0.0/8\n",
            "list A seq 5 deny 10.0.0.0/8\nlist A seq 10 permit any\n",
            ["no list A seq 5 permit any", "list A seq 10 permit any", "list A seq 5 deny 10.0.0.0/8"],
        ),
        # A numbered entry is replaced in its place.
        (
            "list A\n 5 permit x\n 10 permit y\n 15 deny any\n",
            "list A\n 5 permit x\n 10 permit z\n 15 deny any\n",
            ["list A", "  10 permit z", "  exit"],
        ),
        # One that moves into the place of another comes behind what takes its own place.
        (
            "list A seq 5 permit x\nlist A seq 10 permit y\n",
            "list A seq 5 permit y\nlist A seq 10 permit z\n",
            ["list A seq 10 permit z", "list A seq 5 permit y"],
        ),
    ],
)
def test_lines_as_routers_take_them(now: str, wanted: str, lines: list[str]) -> None:
    assert lines_between(now, wanted, Lines(), _saying) == lines


def test_a_line_that_adds_is_undone_first() -> None:
    now, wanted = "port 1\n ip address 10.0.0.1/24\n", "port 1\n ip address 10.0.0.2/24\n"
    replacing = ["port 1", "  ip address 10.0.0.2/24", "  exit"]
    assert lines_between(now, wanted, Lines(), _saying) == replacing
    adding = ["port 1", "  no ip address 10.0.0.1/24", "  ip address 10.0.0.2/24", "  exit"]
    assert lines_between(now, wanted, Lines(adds=("^ip address ",)), _saying) == adding


def test_another_push_is_advised_where_it_helps_and_answers_are_shown(
    router_estate: Callable[..., EstateFolder], edge: Edge, monkeypatch: pytest.MonkeyPatch
) -> None:
    estate = router_estate(procedure=PUSH)
    assert estate.run("collect").code == 0
    edge.edit("time-server 10.20.0.10\n", "time-server 10.20.0.11\ntime-server 10.20.0.12\n")
    take = CapstanSettings.take
    ignored: list[str] = []

    def ignoring_one(self: CapstanSettings, line: str) -> str:
        if line == "no time-server 10.20.0.12" and not ignored:
            ignored.append(line)
            return "still in use, kept"
        return take(self, line)

    monkeypatch.setattr(CapstanSettings, "take", ignoring_one)
    done = estate.run("push", "t@1", "--confirm", _digest(estate.run("push", "t@1")))
    assert done.code == 1, done.said
    assert 'it answered to "no time-server 10.20.0.12": still in use, kept' in done.out
    assert "push again: historon push t@1" in done.out
    assert estate.run("push", "t@1", "--confirm", _digest(estate.run("push", "t@1"))).code == 0


def test_no_other_push_is_advised_where_it_would_send_the_same(
    router_estate: Callable[..., EstateFolder], edge: Edge, router: Capstan
) -> None:
    estate = router_estate(procedure=PUSH)
    assert estate.run("collect").code == 0
    edge.edit("time-server 10.20.0.10\n", "time-server 10.20.0.11\n")
    router.fault = Fault.FORGETFUL
    done = estate.run("push", "t@1", "--confirm", _digest(estate.run("push", "t@1")))
    assert "another push would send the same commands again" in done.out
    assert "push again" not in done.out


# ---- wrapped, without others, many -----------------------------------------------------------------------------------


def test_a_part_is_put_into_a_text_around_it(files_estate: EstateFolder) -> None:
    text = FILES_ESTATE.replace(
        'steps = [{ pull = "data" }]',
        'values = { site = "mole" }\nsteps = [{ pull = "data/rules.xml" }]\npush = [{ put = "sent.xml", part = "rules.xml", '
        "wrapped = '<load site=\"{site}\">{content}</load>' }, "
        '{ send = ["cp", "data/wanted.xml", "data/rules.xml"] }]',
    )
    files_estate.write(text)
    rules = '<?xml version="1.0"?>\n<rules><rule name="a"/></rules>\n'
    (files_estate.path / "data" / "rules.xml").write_text(rules)
    (files_estate.path / "data" / "wanted.xml").write_text(rules)
    assert files_estate.run("collect").code == 0
    (files_estate.path / "data" / "rules.xml").write_text(rules.replace('"a"', '"b"'))
    done = _push(files_estate, "files@1")
    assert done.code == 0, done.said
    sent = (files_estate.path / "sent.xml").read_text()
    assert sent == '<load site="mole"><rules><rule name="a"/></rules>\n</load>'


def test_files_that_the_version_does_not_have_are_removed_where_that_is_wanted(files_estate: EstateFolder) -> None:
    push = 'push = [{ put = "data", part = "data", remove_others = true }]'
    files_estate.write(FILES_ESTATE.replace('steps = [{ pull = "data" }]', f'steps = [{{ pull = "data" }}]\n{push}'))
    assert files_estate.run("collect").code == 0
    (files_estate.path / "data" / "conf.d").mkdir()
    extra = files_estate.path / "data" / "conf.d" / "extra.conf"
    extra.write_text("permit all\n")
    shown = files_estate.run("push", "files@1")
    assert "data/conf.d/extra.conf is not in that version: it is REMOVED" in shown.out
    assert extra.exists()
    (files_estate.path / "data" / "later.conf").write_text("came meanwhile\n")
    refused = files_estate.run("push", "files@1", "--confirm", _digest(shown))
    assert refused.code == 2, "it is another change by now"
    assert extra.exists()
    files_estate.run("push", "files@1", "--confirm", _digest(files_estate.run("push", "files@1")))
    assert not extra.exists()
    assert sorted(one.name for one in (files_estate.path / "data").iterdir()) == ["a.conf", "conf.d"]


def test_a_site_is_pushed_device_by_device_and_the_first_that_is_not_right_ends_it(files_estate: EstateFolder) -> None:
    names = ("one", "two", "three")
    procedure = 'steps = [{ pull = "{name}.conf", as = "a.conf" }]\npush = [{ put = "{to}.conf", part = "a.conf" }]'
    rows = "".join(
        f'[[sources]]\nname = "{name}"\nprocedure = "files"\nlabels = {{ site = "mole" }}\n'
        f'values = {{ to = "{"elsewhere" if name == "two" else name}" }}\n'
        for name in names
    )
    head = FILES_ESTATE.partition("[[sources]]")[0].replace('steps = [{ pull = "data" }]', procedure)
    files_estate.write(head + rows)
    for name in names:
        (files_estate.path / f"{name}.conf").write_text("wanted\n")
    assert files_estate.run("collect").code == 0
    for name in names:
        (files_estate.path / f"{name}.conf").write_text("changed\n")
    digests: list[str] = []
    for name in names:
        digests += ["--confirm", _digest(files_estate.run("push", f"{name}@1"))]
    at = ("--where", "site=mole", "--at", "1")
    nothing = files_estate.run("push", *at)
    assert (nothing.code, "two: not pushed, as one is not as wanted" in nothing.err) == (1, True), nothing.said
    done = files_estate.run("push", *at, *digests)
    assert done.code == 1, done.said
    assert "one now matches one@1 (noise ignored)" in done.out
    assert "two does NOT match two@1" in done.out
    assert "three: not pushed, as two is not as wanted" in done.err
    texts = [(files_estate.path / f"{name}.conf").read_text() for name in names]
    assert texts == ["wanted\n", "changed\n", "changed\n"]


# ---- one at a time ---------------------------------------------------------------------------------------------------


def test_a_push_holds_its_source(files_estate: EstateFolder) -> None:
    wait = "until test -e go; do sleep 0.05; done"
    push = f'push = [{{ put = "data", part = "data" }}, {{ send = ["sh", "-c", "touch began; {wait}"] }}]'
    files_estate.write(FILES_ESTATE.replace('steps = [{ pull = "data" }]', f'steps = [{{ pull = "data" }}]\n{push}'))
    assert files_estate.run("collect").code == 0
    (files_estate.path / "data" / "a.conf").write_text("changed\n")
    digest = _digest(files_estate.run("push", "files@1"))
    command = [str(PROGRAM), "push", "files@1", "--confirm", digest]
    pushing = subprocess.Popen(command, cwd=files_estate.path, stdout=subprocess.PIPE, text=True)
    try:
        wait_for(lambda: (files_estate.path / "began").exists())
        round_ = files_estate.run("collect")
        assert "skipped" in round_.out, round_.said
        assert "a version is being pushed to it" in round_.said
        second = files_estate.run("push", "files@1")
        assert (second.code, "another push to files is in progress" in second.err) == (6, True), second.said
    finally:
        (files_estate.path / "go").touch()
        out, _ = pushing.communicate(timeout=120)
    assert pushing.returncode == 0, out
    assert "1 unchanged" in files_estate.run("collect").out, "it is let go of"


def test_who_hung_up_is_said(router_estate: Callable[..., EstateFolder], edge: Edge, router: Capstan) -> None:
    estate = router_estate(procedure=PUSH)
    assert estate.run("collect").code == 0
    edge.edit("time-server 10.20.0.10\n", "time-server 10.20.0.11\n")
    digest = _digest(estate.run("push", "t@1"))
    save = edge.save

    def save_and_leave(text: str) -> None:
        save(text)
        router.fault = Fault.REFUSES

    router.save = save_and_leave
    assert estate.run("push", "t@1", "--confirm", digest).code == 6
    told = estate.run("status").err
    assert "PUSH INTERRUPTED: t may be between two versions: " in told
    assert "Historon ended" not in told
    assert "could not be collected" in told
