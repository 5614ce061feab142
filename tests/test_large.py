"""Large contents: in constant memory, in blocks, given back when they go."""

import hashlib
import resource
import subprocess
import sys
from pathlib import Path

import pytest

from historon.store import LARGE, LEDGER
from tests.conftest import FILES_ESTATE, PROGRAM, EstateFolder, prune

_SIZE = 3 * LARGE // 2


def _estate(estate: EstateFolder) -> EstateFolder:
    estate.write(
        FILES_ESTATE.replace('{ pull = "data" }', '{ pull = "big.img", max_size = "1GiB" }')
        + 'max_shrink = "100%"\nretention = "r"\n[retention.r]\nall = "1ms"\nat_least = 1\n'
    )
    return estate


def _write(file: Path, seed: bytes, size: int = _SIZE) -> str:
    """A file that does not compress, and its digest."""
    block = hashlib.shake_256(seed).digest(2**20)
    digest = hashlib.sha256()
    with file.open("wb") as out:
        for number in range(size // 2**20):
            piece = number.to_bytes(4, "big") + block[4:]
            out.write(piece)
            digest.update(piece)
    return digest.hexdigest()


def _shown(estate: EstateFolder, reference: str) -> str:
    done = subprocess.run([PROGRAM, "show", reference, "--reveal"], cwd=estate.path, capture_output=True, check=True)
    return hashlib.sha256(done.stdout).hexdigest()


@pytest.mark.campaign
def test_large_parts_come_back_and_their_blocks_go_with_them(estate: EstateFolder) -> None:
    _estate(estate)
    first = _write(estate.path / "big.img", b"1")
    assert "new" in estate.run("collect").out
    assert "unchanged" in estate.run("collect").out
    size = estate.store().size()
    with (estate.path / "big.img").open("r+b") as file:
        file.write(b"another head")
    changed = hashlib.sha256((estate.path / "big.img").read_bytes()).hexdigest()
    assert "changed" in estate.run("collect").said.split()
    assert estate.store().size() - size < 5 * 2**20, "equal blocks are kept once"
    assert (_shown(estate, "files@1"), _shown(estate, "files@2")) == (first, changed)
    alone = [sys.executable, "docs/read_store.py", str(estate.path / "store" / LEDGER), "files", "2", "big.img"]
    read = subprocess.run(alone, cwd=Path(__file__).parent.parent, capture_output=True, check=True)
    assert hashlib.sha256(read.stdout).hexdigest() == changed, "without Historon"
    assert "too large to be compared line by line" in estate.run("diff", "files@1", "files@2").out
    assert estate.run("restore", "files@1", "--to", "back").code == 0
    assert hashlib.sha256((estate.path / "back" / "big.img").read_bytes()).hexdigest() == first
    (estate.path / "big.img").write_text("small again\n")
    assert "changed" in estate.run("collect").said.split()
    assert prune(estate).code == 0
    assert estate.run("show", "files").out == "small again\n"
    assert estate.store().size() < 2**20
    third = _write(estate.path / "big.img", b"3")
    assert "big.img is binary, and was text before" in estate.run("collect").err
    assert estate.run("vouch", "files@4").code == 0
    assert _shown(estate, "files") == third


def test_what_is_too_large_for_one_stable_form_says_so(estate: EstateFolder) -> None:
    _estate(estate)
    _write(estate.path / "big.img", b"5")
    text = (estate.path / "historon.toml").read_text()
    estate.write(text.replace('max_size = "1GiB"', 'max_size = "1GiB", canonical = true'))
    assert "remove canonical from this step" in estate.run("collect").err


@pytest.mark.campaign
def test_memory_stays_small(estate: EstateFolder) -> None:
    _estate(estate)
    _write(estate.path / "big.img", b"4", 16 * LARGE)
    limit = (200 * 2**20, 200 * 2**20)
    done = subprocess.run(
        [PROGRAM, "collect"],
        cwd=estate.path,
        check=False,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_DATA, limit),
    )
    assert done.returncode == 0
    assert estate.store().versions("files")[0].size == 16 * LARGE
