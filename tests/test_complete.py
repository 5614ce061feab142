"""Nothing that documents demand can be left out: what is added without it fails here."""

import importlib
import re
from pathlib import Path

import pytest

from historon.base.formats import Format
from historon.cli.main import COMMANDS
from historon.collect.verbs import TAKERS
from historon.estate import EVENT_KINDS, Retention
from historon.estate.steps import VERBS
from historon.inspection.formats import READERS

ROOT = Path(__file__).parent.parent
YEAR = "".join(file.read_text() for file in (ROOT / "year").rglob("*.py"))
# Events that the year of faults does not play, each with the tests that do.
ELSEWHERE = {
    "age-unknown": "test_conditions",
    "frozen": "test_silence",
    "heartbeat-failing": "test_conditions",
    "not-described": "test_conditions",
    "not-proven": "test_proof",
    "not-scheduled": "test_conditions",
    "proven-again": "test_proof",
    "pruned": "test_pruning",
    "pruning-again": "test_pruning",
    "pruning-blocked": "test_pruning",
    "push-failed": "test_push",
    "pushed": "test_push",
    "requirement-failed": "test_month",
    "requirement-met": "test_month",
    "skipped-long": "test_said_aloud",
    "still-not-proven": "test_telling",
    "still-overdue": "test_month",
    "test": "test_telling",
}


def _text(name: str) -> str:
    return (ROOT / name).read_text()


@pytest.mark.parametrize("command", [name for names in COMMANDS.values() for name in names])
def test_each_command_with_json_has_its_document(command: str) -> None:
    made = importlib.import_module(f"historon.cli.commands.{command.replace('-', '_')}").command
    all_of_it = [made, *getattr(made, "commands", {}).values()]
    if any(param.name == "as_json" for one in all_of_it for param in one.params):
        assert re.search(rf"`historon {command}\b.* --json", _text("docs/json.md"))


@pytest.mark.parametrize("rule", Retention.__struct_fields__)
def test_each_rule_of_retention_has_a_test_and_a_row(rule: str) -> None:
    assert re.search(rf"\b{rule}=", _text("tests/test_retention.py"))
    assert re.search(rf"\b{rule}\b", _text("docs/retention.md"))


@pytest.mark.parametrize("kind", EVENT_KINDS)
def test_each_event_is_played_and_documented(kind: str) -> None:
    assert f"`{kind}`" in _text("docs/notices.md")
    if kind in ELSEWHERE:
        assert f'"{kind}"' not in YEAR, "it is in the year now"
        played = _text(f"tests/{ELSEWHERE[kind]}.py")
        assert f'"{kind}"' in played or (kind.startswith("still-") and "kind.still" in played)
    else:
        assert f'"{kind}"' in YEAR


@pytest.mark.parametrize("verb", VERBS)
def test_each_verb_of_steps_is_taken_and_has_a_row(verb: str) -> None:
    assert any(kind in TAKERS for kind in VERBS[verb].__mro__)
    assert f"`{verb}`" in _text("docs/collecting.md") + _text("docs/pushing.md")


def test_each_format_of_exports_is_opened_and_has_a_row() -> None:
    text = (ROOT / "docs" / "collecting.md").read_text()
    assert all(f"`{one}`" in text or f'is = "{one}"' in text for one in Format)
    assert {*Format} - {*READERS} == {Format.TEXT, Format.ANYTHING}, "nobody opens it"
