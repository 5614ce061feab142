"""Notices by mail, against a relay that speaks SMTP with STARTTLS and AUTH."""

import base64
from collections.abc import Callable, Iterator
from email.message import EmailMessage
from pathlib import Path

import pytest

from historon.standins.certificates import SelfSigned
from historon.standins.pennant import Pennant
from tests.conftest import EstateFolder

Write = Callable[..., EstateFolder]


@pytest.fixture
def relay(tmp_path: Path) -> Iterator[Pennant]:
    made = Pennant(SelfSigned.make(tmp_path))
    made.start()
    yield made
    made.stop()


@pytest.fixture
def write(files_estate: EstateFolder, relay: Pennant) -> Write:
    def write(**also: str) -> EstateFolder:
        keys = {
            "server": "localhost",
            "security": "starttls",
            "credentials": "mail",
            "certificate": relay.tls.fingerprint,
            **also,
        }
        lines = "\n".join(f'{key} = "{value}"' for key, value in keys.items() if value)
        text = (files_estate.path / "historon.toml").read_text().partition("[credentials.mail]")[0]
        files_estate.write(f"""{text}
[credentials.mail]
user = "historon"
password = "env:MAIL_PASSWORD"
[channels.operators]
kind = "mail"
to = ["one@brackwater.example", "two@brackwater.example"]
from = "historon@brackwater.example"
port = {relay.port}
{lines}
""")
        return files_estate

    return write


def _body(letter: EmailMessage, kind: str) -> str:
    part = letter.get_body((kind,))
    assert part is not None
    return str(part.get_content()).replace("\r\n", "\n")


def _collect(estate: EstateFolder, password: str = "signal-flag") -> tuple[int, str]:
    result = estate.run("collect", MAIL_PASSWORD=password)
    assert password not in result.said
    return result.code, result.said


def test_a_letter_tells_the_state_at_a_glance_and_what_changed(write: Write, relay: Pennant) -> None:
    estate = write()
    assert _collect(estate)[0] == 0
    (estate.path / "data" / "a.conf").write_text("one\n2\nthree\npassword CANARY <b>\n")
    assert _collect(estate)[0] == 0
    first, second = relay.letters
    assert [first["Subject"], second["Subject"]] == ["1 collected, 1 new: Test", "1 collected, 1 changed: Test"]
    assert second["To"] == "one@brackwater.example, two@brackwater.example"
    text, html = _body(second, "plain"), _body(second, "html")
    assert "files: version 2, +2 -1 lines" in text
    assert "- two" in text
    assert "+ password [secret " in text
    assert "&lt;b&gt;" in html
    assert "<b>\n" not in html
    assert "CANARY" not in text + html
    assert "Round 2" in text


def test_trouble_comes_first_with_its_step_and_advice(write: Write, relay: Pennant) -> None:
    estate = write()
    (estate.path / "data" / "a.conf").unlink()
    (estate.path / "data").rmdir()
    assert _collect(estate)[0] == 3
    (letter,) = relay.letters
    assert letter["Subject"] == "1 FAILED of 1, nothing changed: Test"
    text = _body(letter, "plain")
    assert text.startswith("NEEDS ACTION\n\nfiles: could not be collected\n  there is no ")
    assert "  at step 1 of 1 (pull data)\n  try: check that its disk is mounted" in text


@pytest.mark.parametrize(("tell", "letters"), [("always", 3), ("changes", 2), ("trouble", 1)])
def test_who_wants_to_hear_of_what(write: Write, relay: Pennant, tell: str, letters: int) -> None:
    estate = write(tell=tell)
    for _ in range(2):
        assert _collect(estate)[0] == 0
    (estate.path / "data" / "a.conf").unlink()
    assert _collect(estate)[0] == 3
    assert len(relay.letters) == letters


@pytest.mark.parametrize(
    ("also", "told"),
    [
        ({"certificate": "SHA256:" + "ab" * 32}, "not the pinned one"),
        ({"certificate": ""}, "its certificate is not trusted"),
        ({"server": "no-such-host.invalid"}, "mail through no-such-host.invalid"),
        ({"security": "tls"}, "mail through localhost"),
        ({"credentials": ""}, "mail through localhost"),
    ],
)
def test_trouble_with_mail_is_told_and_never_harms_the_round(
    write: Write, relay: Pennant, also: dict[str, str], told: str
) -> None:
    estate = write(**also)
    code, said = _collect(estate)
    assert code == 6
    assert f"notice not sent to operators: {told.split(' ')[0]}" in said or told in said
    assert told in said
    assert estate.store().state("files").good == 1
    assert relay.letters == []


def test_a_refused_password_is_told_without_it(write: Write, relay: Pennant) -> None:
    code, said = _collect(write(), password="wrong-canary")
    assert (code, "refused the log-in" in said) == (6, True)


def test_a_refused_recipient_is_named_and_the_others_are_told(write: Write, relay: Pennant) -> None:
    relay.unknown = {"two@brackwater.example"}
    code, said = _collect(write())
    assert (code, "refused for two@brackwater.example" in said, len(relay.letters)) == (6, True, 1)


def test_a_certificate_can_be_verified_by_its_authority(write: Write, relay: Pennant) -> None:
    assert _collect(write(certificate="", authority=str(relay.tls.certificate)))[0] == 0
    assert len(relay.letters) == 1


def test_a_test_reports_the_conversation_without_the_password(write: Write, relay: Pennant) -> None:
    estate = write()
    tried = estate.run("notices", "try", "operators", MAIL_PASSWORD="signal-flag")
    assert tried.code == 0
    for said in (
        "< 220 ",
        "> ehlo",
        "> STARTTLS",
        "(encrypted: TLSv1.",
        "> AUTH PLAIN …",
        "< 235",
        "> rcpt TO:<two@",
        "< 250 kept",
    ):
        assert said.lower() in tried.out.lower(), said  # libraries write the commands in either case
    encoded = base64.b64encode(b"\0historon\0signal-flag").decode()
    assert encoded not in tried.said
    assert "signal-flag" not in tried.said
    refused = estate.run("notices", "try", "operators", MAIL_PASSWORD="wrong-canary")
    assert refused.code == 6
    assert "< 535" in refused.out
    assert "canary" not in refused.said
    relay.unknown = {"two@brackwater.example"}
    assert estate.run("notices", "try", "operators", MAIL_PASSWORD="signal-flag").code == 6


def test_who_is_to_be_told_later_is_told_later_and_nobody_twice(write: Write, relay: Pennant) -> None:
    relay.busy = {"two@brackwater.example"}
    estate = write()
    code, said = _collect(estate)
    assert code == 6
    assert "queued for another try, for two@brackwater.example" in said
    assert "is queued for two@brackwater.example" in estate.run("notices").out
    relay.busy = set()
    assert estate.run("notices", "send", MAIL_PASSWORD="signal-flag").out == "operators: sent\n"
    assert relay.recipients == [("one@brackwater.example",), ("two@brackwater.example",)]
    assert relay.letters[0]["Message-ID"] == relay.letters[1]["Message-ID"]
    (estate.path / "data" / "a.conf").write_text("other\n")
    relay.busy = {"two@brackwater.example"}
    _collect(estate)
    relay.busy, relay.unknown = set(), {"two@brackwater.example"}
    assert estate.run("notices", "send", MAIL_PASSWORD="signal-flag").code == 6
    assert " sent " in estate.run("notices", "history").out.splitlines()[2], "one of them has got it"
    assert "the authority none.pem: No such file" in _collect(write(certificate="", authority="none.pem"))[1]


def test_a_letter_that_was_taken_is_not_sent_again_for_a_bad_leave(write: Write, relay: Pennant) -> None:
    relay.curt = True
    estate = write()
    assert _collect(estate)[0] == 0
    assert estate.run("notices", "send", MAIL_PASSWORD="signal-flag").out == "no notice is waiting\n"
    assert len(relay.letters) == 1


def test_nobody_left_to_tell_is_the_end_of_a_notice(write: Write, relay: Pennant) -> None:
    relay.unknown = {"one@brackwater.example", "two@brackwater.example"}
    estate = write()
    assert _collect(estate)[0] == 6
    assert " refused " in estate.run("notices", "history").out
    assert "no notice is waiting" in estate.run("notices", "send", MAIL_PASSWORD="signal-flag").out


def test_letters_about_a_source_are_one_thread(write: Write, relay: Pennant) -> None:
    estate = write()
    _collect(estate)
    (estate.path / "data" / "a.conf").write_text("other\n")
    _collect(estate)
    first, second = relay.letters
    assert first["Message-ID"] != second["Message-ID"]
    assert first["References"] == second["References"] == second["In-Reply-To"]
    assert str(second["References"]).endswith("@brackwater.example>")


def test_what_changed_goes_along_masked_and_in_measure(write: Write, relay: Pennant) -> None:
    estate = write(attach="masked", tell="changes")
    _collect(estate)
    (estate.path / "data" / "a.conf").write_text("one\npassword CANARY\n")
    (estate.path / "data" / "b.bin").write_bytes(b"\0\1\2CANARY")
    _collect(estate)
    (attached,) = relay.letters[-1].iter_attachments()
    assert attached.get_filename() == "files-2-data-a.conf"
    content = attached.get_content()
    assert content.startswith(b"one\npassword [secret ")
    assert b"CANARY" not in relay.letters[-1].as_bytes()
    assert "Not attached: files data/b.bin, it cannot be masked." in _body(relay.letters[-1], "plain")
    unmasked = write(attach="unmasked", tell="changes")
    (unmasked.path / "data" / "a.conf").write_text("two\npassword CANARY\n")
    _collect(unmasked)
    (attached,) = relay.letters[-1].iter_attachments()
    assert attached.get_content() == b"two\npassword CANARY\n"
    assert "Attachments are not masked: they may contain secrets." in _body(relay.letters[-1], "plain")
    assert "attached: files-3-data-a.conf, 20 B" in unmasked.run("notices", "show", "3").out
    small = write(attach="masked", attach_at_most="10B")
    (small.path / "data" / "a.conf").write_text("three\npassword CANARY\n")
    _collect(small)
    assert list(relay.letters[-1].iter_attachments()) == []
    assert "Not attached: files data/a.conf, more than the 10 B allowed." in _body(relay.letters[-1], "plain")


def test_a_letter_may_have_a_form_of_its_own_and_a_wrong_one_does_not_hold_it_up(write: Write, relay: Pennant) -> None:
    estate = write(template="mine.j2", html_template="mine.html.j2")
    (estate.path / "mine.j2").write_text("{% for event in events %}{{ event.kind }} {{ event.source }}\n{% endfor %}")
    (estate.path / "mine.html.j2").write_text("<p>{{ sections[0]['items'][0].title }}</p>")
    (estate.path / "data" / "<b>.conf").write_text("one\n")
    _collect(estate)
    assert _body(relay.letters[0], "plain") == "new files\nround-ended None\n"
    assert "<p>files: first version; there is no earlier one to compare: look at it</p>" in _body(
        relay.letters[0], "html"
    )
    (estate.path / "mine.j2").write_text("{% for %}")
    (estate.path / "data" / "a.conf").write_text("other\n")
    assert _collect(estate)[0] == 0
    assert "The template mine.j2 could not be used: line 1: " in _body(relay.letters[1], "plain")
    (estate.path / "mine.j2").write_text(estate.run("notices", "template", "text").out)
    (estate.path / "mine.html.j2").write_text(estate.run("notices", "template", "html").out)
    (estate.path / "data" / "a.conf").write_text("another\n")
    _collect(estate)
    assert "CHANGED\n\nfiles: version 3, +1 -1 lines\n" in _body(relay.letters[2], "plain")
    assert "<h3" in _body(relay.letters[2], "html")
