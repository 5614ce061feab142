from pathlib import Path

from tests.conftest import historon


def test_the_demo_plays_to_its_end_and_leaves_an_estate_to_play_with(tmp_path: Path) -> None:
    result = historon("demo", "bw", cwd=tmp_path)
    assert result.code == 0, result.said
    assert [line for line in result.err.splitlines() if not line.startswith("lighter: ")] == []
    for told in (
        "12 sources in ",
        "12 first",
        "1 suspect, 2 failed",
        "12 sources: 12 fresh; requirements: 1 not met",
        "+time-server 10.20.0.11",
        "monitor community [secret ",
        "+ access-list outside-in  (permits any)  permit any 10.20.30.0/24",
        "office-edge-1: a requirement is not met",
        "cannot tell yet in 2 good versions of purser-files: it takes 4",
        "no permit any 10.20.30.0/24",
        "office-edge-1 is as in office-edge-1@6, noise not counted",
        "1 NOT AS REQUIRED of 12",
        "8 families in the last 7 days",
        "removed ",
        "Subject: 2 FAILED, 1 SUSPECT of 12",
        "nothing found wrong, 2 with advice",
        "versions of 12 sources",
        "missing: file:keys/mail",
        "That was the tour",
    ):
        assert told in result.out, told
    # How many of the week's versions retention leaves is a matter of the weekday.
    sources = [row["source"] for row in historon("sources", "--json", cwd=tmp_path / "bw").rows]
    left = sum(len(historon("versions", one, "--json", cwd=tmp_path / "bw").rows) for one in sources)
    assert f"lighter: up to date: {left} versions of 12 sources" in result.err
    assert "read: all of it as written" in result.err
    assert "quiet-nor-heron" not in result.out
    assert "Salt" in (tmp_path / "bw/restored/purser/tariffs/summer.csv").read_text()
    assert historon("status", cwd=tmp_path / "bw").code == 0, "office-edge-1 is as it must be again"
    here, anew = (historon("versions", "office-edge-1", "--json", cwd=tmp_path / one).rows for one in ("bw", "bw/anew"))
    assert here == anew
    assert historon("demo", "bw", cwd=tmp_path).code == 6, "what exists is not touched"
