"""The service asked by programs of its machine, and its logs."""

import json
import os
import re
import shutil
import socket
import subprocess
import sys
import urllib.error
import urllib.request
from collections.abc import Iterator
from contextlib import ExitStack
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from prometheus_client import Metric
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from historon.estate import SecretRef, without_secrets
from historon.store import Outcome
from historon.timetable import Freshness
from historon.timetable.health import HealthFigures, HealthServer
from tests.conftest import PROGRAM, EstateFolder
from tests.test_timetable import _on_record, _serving, scheduled
from tests.waiting import wait_for

__all__ = ["scheduled"]

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


@pytest.fixture
def figures() -> HealthFigures:
    made = HealthFigures(
        seen=NOW - timedelta(seconds=5), ages={Freshness.FRESH: 3, Freshness.OVERDUE: 1}, store_bytes=4096, rounds=2
    )
    made.confirmed = {'edge "1"\n': NOW - timedelta(hours=1)}
    made.waiting = {"operators": 2}
    made.outcomes[Outcome.CHANGED] += 7
    return made


@pytest.fixture
def server(figures: HealthFigures) -> Iterator[HealthServer]:
    with HealthServer(figures, lambda: NOW, 0) as made:
        yield made


def _ask(server: HealthServer | int, path: str, method: str = "GET", **headers: str) -> tuple[int, str, str]:
    port = server if isinstance(server, int) else server.port
    try:
        with urllib.request.urlopen(
            urllib.request.Request(f"http://127.0.0.1:{port}{path}", method=method, headers=headers)
        ) as answer:
            return answer.status, answer.headers["content-type"], answer.read().decode()
    except urllib.error.HTTPError as exc:
        with exc:
            return exc.code, "", exc.read().decode()


def _families(text: str) -> list[Metric]:
    return list(text_string_to_metric_families(text))  # type: ignore[no-untyped-call]


def test_health_tells_whether_the_service_itself_is_well(server: HealthServer, figures: HealthFigures) -> None:
    status, kind, text = _ask(server, "/health")
    assert (status, kind, json.loads(text)["state"]) == (200, "application/json", "well")
    assert json.loads(text)["ages"] == {"fresh": 3, "overdue": 1}
    for trouble, seen, state in (
        ("disk full", NOW, "store trouble: disk full"),
        ("", None, "starting"),
        ("", NOW - timedelta(hours=1), "stalled"),
    ):
        figures.trouble, figures.seen = trouble, seen
        status, _, text = _ask(server, "/health")
        assert (status, json.loads(text)["state"]) == (503, state)
    assert _ask(server, "/")[0] == 404
    assert _ask(server, "/health", "POST")[0] == 405


@pytest.mark.campaign
def test_half_a_question_keeps_nobody_else_waiting(server: HealthServer) -> None:
    with ExitStack() as opened:
        for _ in range(20):
            one = opened.enter_context(socket.create_connection(("127.0.0.1", server.port)))
            one.sendall(b"GET /health HTTP/1.1\r\nHost: localh")
        assert _ask(server, "/health")[0] == 200
    with ExitStack() as opened:
        for _ in range(200):
            opened.enter_context(socket.create_connection(("127.0.0.1", server.port)))
        wait_for(lambda: _asked_at_all(server), "those that say nothing are closed")


def _asked_at_all(server: HealthServer) -> bool:
    try:
        return _ask(server, "/health")[0] == 200
    except OSError:
        return False


@pytest.mark.parametrize(("host", "code"), [("localhost:1", 200), ("127.0.0.1", 200), ("rebound.example", 421)])
def test_only_who_asks_for_this_machine_is_answered(server: HealthServer, host: str, code: int) -> None:
    assert _ask(server, "/health", Host=host)[0] == code


def test_figures_are_openmetrics_as_a_reader_of_it_understands_them(server: HealthServer) -> None:
    _, kind, text = _ask(server, "/metrics")
    assert kind.startswith("application/openmetrics-text; version=1.0.0")
    found = {
        (sample.name, *sample.labels.values()): sample.value for family in _families(text) for sample in family.samples
    }
    assert found["historon_well",] == 1
    assert found["historon_sources", "overdue"] == 1
    assert found["historon_sources", "never"] == 0
    assert found["historon_source_confirmed_timestamp_seconds", 'edge "1"\n'] == NOW.timestamp() - 3600
    assert found["historon_notices_waiting", "operators"] == 2
    assert found["historon_rounds_total",] == 2
    assert found["historon_outcomes_total", "changed"] == 7
    assert found["historon_store_bytes",] == 4096


def test_the_service_answers_while_it_runs_and_only_on_loopback(scheduled: EstateFolder) -> None:
    _on_record(scheduled, datetime.now(UTC) - timedelta(days=3))
    log = scheduled.path / "service.log"
    with _serving(
        scheduled, "--port", "0", "--log-level", "warning", "--log-file", str(log), "--log-file-level", "debug"
    ) as process:
        words = _wait_for_file(log, r"health and metrics on http://127.0.0.1:(\d+)")
        port = int(words[1])
        _wait_for_file(log, "round 1 ended: 1 new")
        wait_for(lambda: json.loads(_ask(port, "/health")[2])["next_due"])
        assert _ask(port, "/health")[0] == 200
        assert "historon_rounds_total 1.0" in _ask(port, "/metrics")[2]
        taken = scheduled.run("serve", "--port", str(port))
        assert taken.code == 6
        assert f"cannot listen on 127.0.0.1 port {port}" in taken.err
        process.terminate()
        _wait_for_file(log, "the service has ended")
        assert process.wait(20) == 0
        assert process.stderr
        assert " info " not in process.stderr.read(), "each destination has a level of its own"
    assert "debug   files: step 1 of 1 (pull data) took" in log.read_text()
    assert log.stat().st_mode & 0o777 == 0o600


def test_a_service_that_starts_anew_knows_the_last_round(scheduled: EstateFolder) -> None:
    assert scheduled.run("collect").code == 0
    log = scheduled.path / "service.log"
    with _serving(scheduled, "--port", "0", "--log-file", str(log)) as process:
        port = int(_wait_for_file(log, r"health and metrics on http://127.0.0.1:(\d+)")[1])
        _wait_for_file(log, "on schedule")
        health = wait_for(lambda: json.loads(_ask(port, "/health")[2]))
        assert health["last_round"], "it is on record, whoever made it"
        assert "historon_last_round_timestamp_seconds" in _ask(port, "/metrics")[2]
        process.terminate()
        process.wait(20)


def _wait_for_file(file: Path, pattern: str) -> "re.Match[str]":
    found = wait_for(lambda: re.search(pattern, file.read_text()) if file.exists() else None)
    assert found
    return found


def test_what_fails_is_logged_as_gravely_as_it_is_told(scheduled: EstateFolder) -> None:
    _on_record(scheduled, datetime.now(UTC) - timedelta(days=3))
    shutil.rmtree(scheduled.path / "data")
    done = scheduled.run("serve", "--once", "--log-format", "json", "--log-level", "warning")
    lines = [json.loads(line) for line in done.err.splitlines()]
    assert [one["level"] for one in lines if one["message"].startswith("files: failed")] == ["error"]
    assert {one["level"] for one in lines} <= {"warning", "error", "critical"}


def test_what_libraries_warn_of_is_in_the_log_in_its_form_and_nowhere_raw(tmp_path: Path) -> None:
    script = (
        "import logging, warnings\n"
        "from historon.cli.views.serve import log_to\n"
        "log_to('json', 'info', None, 'info', journal=False)\n"
        "warnings.warn('this cipher is old', DeprecationWarning)\n"
        "logging.getLogger('a.library').warning('odd')\n"
        "logging.getLogger('a.library').info('chatter')\n"
    )
    done = subprocess.run([sys.executable, "-W", "always", "-c", script], capture_output=True, text=True, check=True)
    told = [json.loads(line) for line in done.stderr.splitlines()]
    assert [one["level"] for one in told] == ["warning", "warning"]
    assert "this cipher is old" in told[0]["message"]


def test_a_command_is_silent_about_what_libraries_warn_of(tmp_path: Path) -> None:
    script = (
        "import logging, warnings\n"
        "from historon.cli.main import run\n"
        "run(['--version'])\n"
        "warnings.warn('this cipher is old', DeprecationWarning)\n"
        "logging.getLogger('a.library').warning('odd')\n"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert done.stderr == ""


def test_the_journal_is_told_priorities(scheduled: EstateFolder) -> None:
    _on_record(scheduled, datetime.now(UTC) - timedelta(days=3))
    reader, writer = os.pipe()
    stat = os.fstat(writer)
    subprocess.run(
        [PROGRAM, "serve", "--once"],
        cwd=scheduled.path,
        stderr=writer,
        check=True,
        env={"PATH": os.environ["PATH"], "HOME": str(scheduled.path), "JOURNAL_STREAM": f"{stat.st_dev}:{stat.st_ino}"},
    )
    os.close(writer)
    with open(reader) as pipe:
        said = pipe.read()
    assert "\n<6>files: new\n" in said
    assert "<3>files: overdue: " in said
    assert "<6>" not in scheduled.run("serve", "--once", JOURNAL_STREAM="1:2").err


def test_a_log_that_cannot_be_written_is_told(scheduled: EstateFolder) -> None:
    result = scheduled.run("serve", "--once", "--log-file", "none/service.log")
    assert result.code == 6
    assert "none/service.log: cannot log there" in result.err


def test_secrets_that_were_fetched_are_taken_out_of_logs(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("HISTORON_TEST", "salt-water-7")
    assert SecretRef.parse("env:HISTORON_TEST").resolve(tmp_path).reveal() == "salt-water-7"
    assert without_secrets("log in as x:salt-water-7@host") == "log in as x:[secret]@host"
