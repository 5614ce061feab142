"""Notices by mail, against a relay that speaks SMTP with STARTTLS and AUTH."""

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
            "server": "localhost", "security": "starttls", "credentials": "mail", "certificate": relay.tls.fingerprint, **also,
        }  # fmt: skip
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
    assert [first["Subject"], second["Subject"]] == ["All 1 well, 1 new: Test", "All 1 well, 1 changed: Test"]
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
    assert text.startswith("NEEDS A HAND\n\nfiles: could not be collected\n  there is no ")
    assert "  at step 1 of 1 (pull data)\n  try: is its disk mounted" in text


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
    assert (code, "refuses the log-in" in said) == (6, True)


def test_a_refused_recipient_is_named_and_the_others_are_told(write: Write, relay: Pennant) -> None:
    relay.unknown = {"two@brackwater.example"}
    code, said = _collect(write())
    assert (code, "refused for two@brackwater.example" in said, len(relay.letters)) == (6, True, 1)


def test_a_certificate_can_be_verified_by_its_authority(write: Write, relay: Pennant) -> None:
    assert _collect(write(certificate="", authority=str(relay.tls.certificate)))[0] == 0
    assert len(relay.letters) == 1
