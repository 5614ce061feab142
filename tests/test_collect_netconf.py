"""Collecting over NETCONF: both framings, datastores, filters, and switches that misbehave."""

from collections.abc import Iterator

import pytest
from hypothesis import given
from hypothesis import strategies as st

from historon.collect.transports.framing import ChunkedFraming, EndOfMessageFraming, FramingError
from historon.collect.transports.xml import canonical_xml
from historon.standins.background import Background
from historon.standins.thole import Thole, TholeFault
from tests.conftest import EstateFolder, collect, describe_estate, parts_of

_CONFIG = '<config xmlns="urn:thole"><interfaces><port name="p1" mode="trunk"/><port name="p2" mode="access"/></interfaces><users><user>x</user></users></config>'


@pytest.fixture(params=[True, False], ids=["chunked", "end-of-message"])
def switch(background: Background, request: pytest.FixtureRequest) -> Iterator[Thole]:
    device = Thole("t", lambda: _CONFIG, chunked=request.param)
    background.run(device.start())
    yield device
    background.run(device.stop())


def _estate(
    estate: EstateFolder,
    device: Thole,
    steps: str = '{ keep = "get-config running", as = "running.xml" }',
    procedure: str = 'step_deadline = "4s"',
) -> EstateFolder:
    return describe_estate(
        estate,
        over="netconf",
        steps=steps,
        procedure=procedure,
        source=f'address = "127.0.0.1"\nport = {device.port}\ncredentials = "c"\nhost_key = "{device.fingerprint}"',
    )


def test_the_running_configuration(estate: EstateFolder, switch: Thole) -> None:
    result = collect(_estate(estate, switch))
    assert result.code == 0, result.said
    assert parts_of(estate) == {"running.xml": _CONFIG.encode() + b"\n"}


def test_words_filters_and_operations_of_ones_own(estate: EstateFolder, switch: Thole) -> None:
    steps = """{ send = "lock running" },
      { keep = "get-config startup", as = "users.xml", filter = '<config xmlns="urn:thole"><users/></config>' },
      { keep = '<get xmlns="urn:ietf:params:xml:ns:netconf:base:1.0"/>', as = "all.xml", canonical = true },
      { tidy = "unlock running" }"""
    result = collect(_estate(estate, switch, " ".join(steps.split())))
    assert result.code == 0, result.said
    parts = parts_of(estate)
    assert parts["users.xml"] == b'<config xmlns="urn:thole"><users><user>x</user></users></config>\n'
    assert b'<port mode="trunk" name="p1"></port>' in parts["all.xml"]
    assert not switch.locked


@pytest.mark.parametrize(
    ("fault", "told", "tries"),
    [
        (
            TholeFault.DENIES,
            "the device answered with the error access-denied: this account may not read the configuration",
            "let the account read this",
        ),
        (TholeFault.HALF, "the device closed the session in the middle of a reply", "collect it again"),
        (TholeFault.HANGS, "timed out after 4s without a complete answer", "if it is only slow, raise its deadline"),
        (TholeFault.GARBLES, "", "run this step by hand"),
    ],
)
def test_each_fault_has_its_message(
    estate: EstateFolder, switch: Thole, fault: TholeFault, told: str, tries: str
) -> None:
    if fault is TholeFault.GARBLES:
        told, tries = (
            ("its framing is wrong", tries) if switch.chunked else ("the answer is not XML", "collect it again")
        )
    switch.fault = fault
    result = collect(_estate(estate, switch))
    assert (result.code, told in result.err, tries in result.err) == (3, True, True), result.said


def test_what_only_reads_is_asked_again_over_a_new_session_when_no_answer_came(
    estate: EstateFolder, switch: Thole
) -> None:
    """And what changes something is not: nobody knows whether it was done."""
    switch.fault, switch.sessions_with_fault = TholeFault.HANGS, 1
    patient = 'tries = 2\nstep_deadline = "2s"'
    result = collect(_estate(estate, switch, procedure=patient))
    assert result.code == 0, result.said
    assert "succeeded only on a later try, after: timed out after 2s without a complete answer" in result.out
    assert switch.sessions == 2
    switch.fault, switch.sessions_with_fault = TholeFault.HANGS, 3
    locking = '{ send = "lock running" }, { keep = "get-config running", as = "running.xml" }'
    assert collect(_estate(estate, switch, locking, patient)).code == 3
    assert switch.sessions == 3


def test_the_order_of_attributes_is_no_change_in_canonical_form(estate: EstateFolder, switch: Thole) -> None:
    _estate(estate, switch, '{ keep = "get-config running", as = "running.xml", canonical = true }')
    switch.fault = TholeFault.SHUFFLES
    assert "new" in collect(estate).out
    assert "unchanged" in collect(estate).out


@pytest.mark.parametrize(
    ("steps", "told"),
    [
        ('{ keep = "get-config candidate", as = "x" }', "the device has no candidate datastore"),
        ('{ keep = "show running", as = "x" }', '"show running" is not an operation'),
        ('{ keep = "<get", as = "x" }', "the step's XML is not well-formed"),
    ],
)
def test_wrong_operations(estate: EstateFolder, switch: Thole, steps: str, told: str) -> None:
    result = collect(_estate(estate, switch, steps))
    assert (result.code, told in result.err) == (3, True), result.said


def test_a_device_without_netconf(estate: EstateFolder, background: Background) -> None:
    from historon.standins.capstan import Capstan

    device = Capstan("t", lambda: "end\n")
    background.run(device.start())
    result = collect(_estate(estate, device))  # type: ignore[arg-type]
    background.run(device.stop())
    assert result.code == 3
    assert "  what     " in result.err


@given(st.lists(st.binary(min_size=1, max_size=200), min_size=1, max_size=5), st.integers(1, 40))
def test_messages_come_through_chunks_of_any_size(messages: list[bytes], step: int) -> None:
    framing = ChunkedFraming()
    stream = b"".join(framing.framed(message) for message in messages)
    found = []
    for at in range(0, len(stream), step):
        framing.feed(stream[at : at + step])
        while (message := framing.next_message()) is not None:
            found.append(message)
    assert found == messages


@given(st.lists(st.from_regex(rb"[a-z<>\]]{1,40}[a-z]", fullmatch=True), max_size=5), st.integers(1, 40))
def test_messages_come_through_marks(messages: list[bytes], step: int) -> None:
    framing = EndOfMessageFraming()
    stream = b"".join(framing.framed(message) for message in messages)
    found = []
    for at in range(0, len(stream), step):
        framing.feed(stream[at : at + step])
        while (message := framing.next_message()) is not None:
            found.append(message)
    assert found == messages


@pytest.mark.parametrize(
    "stream", [b"<rpc/>", b"\n#0\n", b"\n#01\nx", b"\n#x\n", b"\n##x", b"\n#99999999999\n", b"\r\n#4\nabcd"]
)
def test_wrong_frames_are_refused(stream: bytes) -> None:
    framing = ChunkedFraming(stream)
    with pytest.raises(FramingError):
        framing.next_message()


def test_the_stable_form_keeps_namespaces_that_only_values_refer_to() -> None:
    text = b'<a xmlns="urn:a"><type b="2" a="1" xmlns:t="urn:types">t:port</type></a>'
    made = canonical_xml(text)
    assert b'xmlns:t="urn:types"' in made
    assert b'a="1" b="2"' in made
    assert canonical_xml(made) == made
