from pathlib import Path

import pytest

from tests.conftest import historon


@pytest.mark.campaign
def test_the_demo_plays_to_its_end_and_leaves_an_estate_to_play_with(tmp_path: Path) -> None:
    result = historon("demo", "bw", "--full", cwd=tmp_path)
    assert result.code == 0, result.said
    assert "office-edge-1: a requirement is not met" in result.err, "trouble goes to standard error"
    assert "Traceback" not in result.said
    assert "defect" not in result.said
    for told in (
        "12 sources in ",
        "12 new",
        "1 suspect, 2 failed",
        "12 sources: 12 fresh; requirements: 1 not met",
        "+time-server 10.20.0.11",
        "monitor community [secret ",
        "+ access-list quay-in  (permits any)  permit any 10.20.30.0/24",
        "office-edge-1: a requirement is not met",
        "too early: purser-files has 2 good versions, noise needs 4",
        "no permit any 10.20.30.0/24",
        "office-edge-1 now matches office-edge-1@6 (noise ignored)",
        "1 NOT AS REQUIRED of 12",
        "8 families in the last 7 days",
        " removed; the store takes ",
        "Subject: 2 FAILED, 1 SUSPECT of 12",
        "nothing found wrong, 2 with advice",
        "versions of 12 sources",
        "missing: file:keys/mail",
        "The demo is over",
    ):
        assert told in result.said, told
    # How many of the week's versions retention leaves is a matter of the weekday.
    sources = [row["source"] for row in historon("sources", "--json", cwd=tmp_path / "bw").rows]
    left = sum(len(historon("versions", one, "--json", cwd=tmp_path / "bw").rows) for one in sources)
    assert f"lighter: up to date: {left} versions of 12 sources" in result.out
    assert "read: all intact" in result.out
    assert "quiet-nor-heron" not in result.out
    assert "Salt" in (tmp_path / "bw/restored/purser/tariffs/summer.csv").read_text()
    assert historon("status", cwd=tmp_path / "bw").code == 0, "office-edge-1 is as it must be again"
    here, anew = (historon("versions", "office-edge-1", "--json", cwd=tmp_path / one).rows for one in ("bw", "bw/anew"))
    assert here == anew
    assert historon("demo", "bw", cwd=tmp_path).code == 6, "what exists is not touched"


def test_the_demo_tells_its_story_in_a_few_lines(tmp_path: Path) -> None:
    result = historon("demo", "bw", cwd=tmp_path)
    assert result.code == 0, result.said
    assert len(result.said.splitlines()) <= 140
    for told in (
        "12 new",
        "Round 5: 9 of 12 sources collected",
        "permits any",
        "Subject: 2 FAILED, 1 SUSPECT of 12",
        "demo --full",
    ):
        assert told in result.said, told
    assert historon("status", cwd=tmp_path / "bw").code == 0, "what was not shown was done"
