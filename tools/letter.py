"""Print the HTML of a notice about a made-up round: two sources in trouble, two changed."""

from datetime import UTC, datetime, timedelta
from pathlib import Path
from tempfile import TemporaryDirectory

from historon.collect import Failure, FailureKind, RoundReport, SourceResult
from historon.collect.judging import changed_lines
from historon.compare import compare_exports
from historon.estate import read_estate
from historon.insight import Reader, fingerprints, packed
from historon.notices import letter_of
from historon.notices.channels.mail import MailChannel
from historon.notices.events import change_events, round_ended, state_of, trouble_event
from historon.store import Outcome
from historon.versions import Masks

OLD = b"interface port-3\n  description berth 3\n  network vlan 130\n!\nmonitor community tide-1 read-only\nend\n"
NEW = OLD.replace(b"130", b"131").replace(b"tide-1", b"quiet-heron")


def main() -> None:
    """Compose the letter and print it."""
    with TemporaryDirectory() as folder:
        file = Path(folder) / "historon.toml"
        file.write_text('[estate]\nname = "Brackwater Ferries"\ntime_zone = "Europe/Oslo"\n')
        estate = read_estate(file)
    changes = compare_exports({"active.cfg": OLD}, {"active.cfg": NEW}, Masks(key=b"made up"))
    lines, families = changed_lines(changes, Reader([])), packed(fingerprints(changes, Reader([])))
    failure = Failure(
        FailureKind.INCOMPLETE,
        "the device closed the connection in the middle of an answer, after 979 B; tried 3 times",
        "collect it again; if that does not help, run the step by hand",
        "step 2 of 2 (keep list settings active)",
        "  no shutdown\n!\ninterface port-8",
    )
    second = timedelta(seconds=1)
    doubt = 'active.cfg does not end with "end" but with "interface port-8"'
    results = [
        SourceResult("eider-yard-1", Outcome.SUSPECT, second, 5, 0, 50, doubt),
        SourceResult("saltgate-quay-1", Outcome.FAILED, second, note=str(failure), failure=failure),
        SourceResult("northmole-edge-1", Outcome.CHANGED, second, 5, 2, 2, lines=lines, families=families),
        SourceResult("saltgate-edge-1", Outcome.CHANGED, second, 4, 2, 2, lines=lines, families=families),
        *(SourceResult(f"office-{n}", Outcome.UNCHANGED, second) for n in range(3)),
    ]
    began = datetime(2026, 11, 21, 1, 30, tzinfo=UTC)
    report = RoundReport("Brackwater Ferries", 5, began, began + timedelta(seconds=41), results)
    events = [round_ended(report)]
    for result in results:
        events += change_events(result, began)
        if state := state_of(result):
            events.append(trouble_event(state, result, began))
    channel = MailChannel(to=("a@brackwater.example",), from_="b@brackwater.example", server="localhost")
    print('<meta charset="utf-8">')  # in a mail the head says it
    print(letter_of(events, channel, estate, began).html)


if __name__ == "__main__":
    main()
