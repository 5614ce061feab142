"""What would be lost silently is said: ends of skips, gaps of timetables, blind masks, waits, pruned history."""

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from historon.estate import Hours, in_hours, read_estate
from historon.notices import Event
from historon.notices.routing import due_at, longest_wait, wants
from tests.conftest import FILES_ESTATE, EstateFolder, WebListener, collect, prune_to

_DAY = timedelta(days=1)


def _conditions(estate: EstateFolder) -> dict[str, str]:
    return {one["kind"]: one["words"] for one in estate.run("status", "--json").data["conditions"]}


# ---- skips -----------------------------------------------------------------------------------------------------------


def _skipped(end: str) -> str:
    return FILES_ESTATE.replace('max_age = "26h"', f'max_age = "26h"\nskip = "moved house"\n{end}')


def test_a_skip_ends_on_its_day(files_estate: EstateFolder) -> None:
    today = datetime.now(UTC).date()
    files_estate.write(_skipped(f"skip_until = {today + 2 * _DAY}"))
    collect(files_estate)
    assert files_estate.run("rounds", "1", "--json").rows[0]["outcome"] == "skipped"
    assert _conditions(files_estate) == {}
    files_estate.write(_skipped(f"skip_until = {today - 2 * _DAY}"))
    assert "overdue" in _conditions(files_estate), "it is collected again, and was not yet"
    collect(files_estate)
    assert files_estate.run("rounds", "2", "--json").rows[0]["outcome"] == "new"


def test_a_skip_without_an_end_of_what_was_never_collected_is_open(files_estate: EstateFolder) -> None:
    files_estate.write(_skipped(""))
    assert "without an end (moved house), and never collected" in _conditions(files_estate)["skipped-long"]


def test_the_end_of_no_skip_is_a_mistake(files_estate: EstateFolder) -> None:
    files_estate.write(_skipped("skip_until = 2030-01-01").replace('skip = "moved house"\n', ""))
    result = files_estate.run("doctor")
    assert (result.code, "skip_until has no effect without skip" in result.err) == (4, True)


# ---- timetables ------------------------------------------------------------------------------------------------------


def test_the_longest_gap_of_two_years_is_held_against_max_age(files_estate: EstateFolder) -> None:
    weekdays = '[timetables.work]\nat = "02:00"\nweekdays = ["mon", "tue", "wed", "thu", "fri"]\n[procedures.files]'
    text = FILES_ESTATE.replace("[procedures.files]", weekdays).replace("max_age", 'timetable = "work"\nmax_age')
    files_estate.write(text)
    said = files_estate.run("agenda", "--for", "1h").said
    assert "files: not due for 3d" in said
    assert "max_age is 26h" in said
    files_estate.write(text.replace("26h", "4d"))
    assert "not due for" not in files_estate.run("agenda", "--for", "1h").said


# ---- masks and marks that see nothing --------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("setting", "step", "said"),
    [
        ('noise = ["permit"]', "", "noise hides lines about access, secrets or routes: files data/a.conf line 2"),
        ('unordered = [".*"]', "", "unordered matches everything"),
        ("", ", record_only = true", "each of its parts is record_only"),
    ],
)
def test_doctor_finds_what_cannot_see_a_change(files_estate: EstateFolder, setting: str, step: str, said: str) -> None:
    (files_estate.path / "data" / "a.conf").write_text("hostname a\naccess-list 10 permit ip any any\nmtu 1500\n")
    text = FILES_ESTATE.replace('over = "local"', f'over = "local"\n{setting}').replace('"data" }', f'"data"{step} }}')
    files_estate.write(text)
    collect(files_estate)
    result = files_estate.run("doctor")
    assert result.code == 1
    assert said in result.out


def test_doctor_finds_an_end_that_is_everywhere(files_estate: EstateFolder) -> None:
    (files_estate.path / "data" / "a.conf").write_text("port 1\nend\n" * 60)
    files_estate.write(FILES_ESTATE.replace('"data" }', '"data/a.conf", ends_with = "end" }'))
    collect(files_estate)
    assert "ends_with appears 60 times in files a.conf" in files_estate.run("doctor").out


# ---- channels --------------------------------------------------------------------------------------------------------

_HOURS = '[channels.day]\nkind = "file"\npath = "told.jsonl"\ntell = "always"\nhours = ["08:00-16:00"]\n'


@pytest.mark.parametrize(
    ("at", "due"),
    [("03:00", "08:00"), ("08:00", "08:00"), ("12:00", "12:00"), ("16:00", "08:00+1"), ("23:59", "08:00+1")],
)
def test_hours_put_trouble_off_and_do_not_drop_it(files_estate: EstateFolder, at: str, due: str) -> None:
    files_estate.write(FILES_ESTATE.replace("Europe/Oslo", "UTC") + _HOURS)
    estate = read_estate(files_estate.path / "historon.toml")
    channel = estate.channels["day"]
    now = datetime.fromisoformat(f"2026-03-03T{at}:00+00:00")
    clock, _, days = due.partition("+")
    wanted = datetime.fromisoformat(f"2026-03-03T{clock}:00+00:00") + timedelta(days=int(days or 0))
    for kind in ("failing", "recovered", "store-trouble"):
        event = Event(kind, now, "")
        assert wants(channel, event, estate)
        assert due_at(channel, event, estate, now, in_round=False) == (wanted, False)
    assert wants(channel, Event("changed", now, ""), estate) == (now == wanted), "news of other hours are others' news"
    assert in_hours(now, [Hours.parse("08:00-16:00")], estate.zone) == wanted
    assert longest_wait(channel, estate) == timedelta(hours=16)
    files_estate.run("collect")
    assert "a source that fails is reported there up to 16h later" in files_estate.run("doctor").out


def test_a_webhook_says_which_answer_counts(files_estate: EstateFolder, listener: WebListener) -> None:
    hook = '[channels.hook]\nkind = "webhook"\nurl = "file:keys/hook"\ncheck = "ok"\n'
    (files_estate.path / "keys" / "hook").write_text(listener.address)
    (files_estate.path / "keys" / "hook").chmod(0o600)
    files_estate.write(FILES_ESTATE + hook)
    listener.status, listener.answer = 200, b'{"status": "denied"}'
    result = files_estate.run("notices", "try", "hook")
    assert result.code == 6
    assert 'the answer does not match check: {"status": "denied"}' in result.said
    listener.answer = b'{"status": "ok"}'
    assert files_estate.run("notices", "try", "hook").code == 0


def test_what_nobody_confirms_is_said_to_be_unconfirmed(files_estate: EstateFolder) -> None:
    files_estate.write(FILES_ESTATE + '[channels.c]\nkind = "command"\ncommand = ["/bin/true"]\n')
    assert "sent, unconfirmed: /bin/true ended with exit code 0" in files_estate.run("notices", "try", "c").out


def test_who_reaches_nobody_says_so_by_exit_code(files_estate: EstateFolder) -> None:
    text = FILES_ESTATE.replace("[procedures", '[timetables.often]\nevery = "1m"\n[procedures', 1)
    text = text.replace("max_age", 'timetable = "often"\nmax_age')
    hook = '[channels.hook]\nkind = "webhook"\nurl = "file:keys/hook"\nimmediately = true\n'
    (files_estate.path / "keys" / "hook").write_text("http://127.0.0.1:9/x")
    (files_estate.path / "keys" / "hook").chmod(0o600)
    files_estate.write(text + hook)
    assert files_estate.run("collect").code == 6
    assert files_estate.run("notices").code == 0, "it may be back in a moment"
    store = files_estate.store()
    store.remember("files", "timetable", (datetime.now(UTC) - timedelta(minutes=5)).isoformat())
    store._db.execute("UPDATE notice SET at = at - 7200000, next = next - 7200000")
    store.close()
    assert files_estate.run("serve", "--once").code == 6
    assert files_estate.run("notices").code == 1
    assert files_estate.run("doctor").code == 1
    assert files_estate.run("status").code == 1


# ---- requirements, proofs, copies ------------------------------------------------------------------------------------


def test_a_requirement_of_an_overdue_source_is_unknown(files_estate: EstateFolder) -> None:
    rule = '[[requirements]]\nname = "one"\nmust = ["one"]\n'
    files_estate.write(FILES_ESTATE.replace("26h", "2s") + rule)
    collect(files_estate)
    end = datetime.now(UTC) + timedelta(seconds=3)
    while datetime.now(UTC) < end:
        pass
    (row,) = files_estate.run("status", "--json").rows
    assert (row["age"], row["requirements"]) == ("overdue", "unknown"), row


def test_a_rule_for_a_procedure_is_one_for_those_that_extend_it(files_estate: EstateFolder) -> None:
    extended = FILES_ESTATE.replace("[[sources]]", '[procedures.more]\nextends = "files"\n[[sources]]')
    rule = '[[requirements]]\nname = "five"\nprocedure = "files"\nmust = ["five"]\n'
    files_estate.write(extended.replace('procedure = "files"', 'procedure = "more"') + rule)
    collect(files_estate)
    assert files_estate.run("requirements").code == 1


def test_a_proof_that_never_ran_is_never_tried(files_estate: EstateFolder) -> None:
    proof = 'proof = [["/bin/true"]]\nsteps'
    files_estate.write(FILES_ESTATE.replace("steps", proof, 1))
    collect(files_estate)
    (row,) = files_estate.run("status", "--json").rows
    assert row["proof"] == "never tried"
    assert files_estate.run("status").code == 0, "nobody was asked to try"
    files_estate.run("prove", "files")
    assert files_estate.run("status", "--json").rows[0]["proof"].startswith("proven")


def test_a_copy_in_memory_is_no_second_place(files_estate: EstateFolder) -> None:
    if "tmpfs /dev/shm" not in Path("/proc/self/mounts").read_text() and not Path("/dev/shm").is_dir():
        pytest.skip("this machine has no file system in memory")
    files_estate.write(FILES_ESTATE + '[copies.far]\nkind = "folder"\npath = "/dev/shm/historon-test-never-made"\n')
    assert "is in memory: it is empty after the machine's next start" in files_estate.run("doctor").out


# ---- pruning ---------------------------------------------------------------------------------------------------------


def test_what_was_pruned_leaves_its_number(files_estate: EstateFolder) -> None:
    for n in range(6):
        (files_estate.path / "data" / "a.conf").write_text(f"port {n}\n")
        collect(files_estate)
    prune_to(files_estate, 2)
    said = "4 versions {} were pruned: their changes are unknown"
    assert said.format("since 7d") in files_estate.run("changes").out
    assert said.format("of these sources") in files_estate.run("find", "port", "--ever").out
    assert said.format("of files") in files_estate.run("trace", "files", "port").out
    assert files_estate.run("changes", "--json").data["pruned_versions"] == 4


def test_the_first_pruning_by_a_shorter_retention_waits_for_a_person(files_estate: EstateFolder) -> None:
    text = FILES_ESTATE.replace('name = "files"', 'name = "files"\nretention = "r"')
    keep = '[retention.r]\nall = "1d"\nat_most = {}\nat_least = 1\n'
    files_estate.write(text + keep.format(8))
    for n in range(9):
        (files_estate.path / "data" / "a.conf").write_text(f"port {n}\n")
        collect(files_estate)
    assert files_estate.run("prune", "--yes").code == 0
    files_estate.write(text + keep.format(7))
    blocked = files_estate.run("prune", "--yes")
    assert blocked.code != 0
    assert "retention r became shorter: at_most is 7, was 8" in blocked.said
    assert files_estate.run("prune", "--yes", "--exactly", "1").code == 0
    (files_estate.path / "data" / "a.conf").write_text("port 10\n")
    collect(files_estate)
    assert files_estate.run("prune", "--yes").code == 0
