"""Comparing texts, beside `diff -u` and `git diff --no-index` on the same files: time and length of the result."""

import random
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from bench.history import configuration, nightly
from historon.compare import compare_exports
from historon.versions import Masks

_MASKS = Masks(reveal=True)


def main() -> None:
    """Print, for each kind of pair, our time in this process over each program's whole time, and the lengths."""
    print("lines         kind                              ours      /diff -u  /git diff  length/diff -u")
    for kind, pairs in _KINDS.items():
        _report(kind, list(pairs()))


def _report(kind: str, pairs: list[tuple[bytes, bytes]]) -> None:
    times, ours, theirs = [], 0, 0
    for old, new in pairs:
        timed, lengths = _measure(old, new)
        times.append(timed)
        ours += lengths[0]
        theirs += lengths[1]
    own = statistics.median(one[0] for one in times)
    over_diff, over_git = (statistics.median(one[0] / one[n] for one in times) for n in (1, 2))
    print(f"              {kind:<30}{own * 1000:8.2f} ms   {over_diff:7.2f}    {over_git:7.2f}   {ours / theirs:11.3f}")


def _measure(old: bytes, new: bytes) -> tuple[tuple[float, float, float], tuple[int, int]]:
    with tempfile.TemporaryDirectory() as folder:
        files = [Path(folder) / "old", Path(folder) / "new"]
        for file, content in zip(files, (old, new), strict=True):
            file.write_bytes(content)
        best = [9e9] * 3
        told, printed = 0, b""
        for _ in range(5):
            began = time.perf_counter()
            changes = compare_exports({"p": old}, {"p": new}, _MASKS)
            best[0] = min(best[0], time.perf_counter() - began)
            told = sum(change.added + change.removed for change in changes)
            for n, command in ((1, ["diff", "-u"]), (2, ["git", "diff", "--no-index"])):
                began = time.perf_counter()
                done = subprocess.run([*command, *files], capture_output=True, check=False)
                best[n] = min(best[n], time.perf_counter() - began)
                printed = done.stdout if n == 1 else printed
        lines = printed.split(b"\n")[2:]
        return (best[0], best[1], best[2]), (told, sum(line[:1] in (b"+", b"-") for line in lines))


def _edited(rng: random.Random, lines: list[str], edits: int) -> list[str]:
    """Lines changed, removed, put in and moved about, at random places."""
    lines = list(lines)
    for _ in range(edits):
        at, kind = rng.randrange(len(lines)), rng.randrange(10)
        if kind < 5:
            lines[at] = f"{lines[at]} {rng.randrange(10**6)}"
        elif kind < 7:
            del lines[at : at + rng.randrange(1, 6)]
        elif kind < 9:
            lines[at:at] = [f"  new {rng.randrange(10**6)}" for _ in range(rng.randrange(1, 6))]
        else:
            block = lines[at : at + 8]
            del lines[at : at + 8]
            to = rng.randrange(len(lines))
            lines[to:to] = block
    return lines


def _text(lines: list[str]) -> bytes:
    return ("\n".join(lines) + "\n").encode()


def _consecutive() -> Iterator[tuple[bytes, bytes]]:
    for seed in range(24):
        rng = random.Random(f"night {seed}")
        old = configuration(rng)
        new = nightly(rng, old, seed)
        yield _text(old), _text(new)


def _weeks_apart() -> Iterator[tuple[bytes, bytes]]:
    for seed in range(12):
        rng = random.Random(f"weeks {seed}")
        old = configuration(rng)
        yield _text(old), _text(_edited(rng, old, 10 + 8 * seed))


def _large(lines: int, edits: int) -> Iterator[tuple[bytes, bytes]]:
    rng = random.Random(lines)
    old = configuration(rng, lines)
    new = list(old)
    for at in rng.sample(range(3, len(new) - 1), edits):
        new[at] = f"  description {rng.randrange(10**9)}"
    yield _text(old), _text(new)


def _many_kinds() -> Iterator[tuple[bytes, bytes]]:
    rng = random.Random(5)
    old = configuration(rng, 5000)
    for _ in range(6):
        yield _text(old), _text(_edited(rng, old, 30))


def _hostile() -> Iterator[tuple[bytes, bytes]]:
    for seed in range(3):
        rng = random.Random(f"hostile {seed}")
        blocks = [
            [rng.choice(("  no shutdown", "!", "  mtu 1500", f"  vlan {rng.randrange(40)}")) for _ in range(50)]
            for _ in range(400)
        ]
        old = [line for block in blocks for line in block]
        rng.shuffle(blocks)
        yield _text(old), _text([line for block in blocks for line in block])


_KINDS: dict[str, Callable[[], Iterator[tuple[bytes, bytes]]]] = {
    "consecutive versions": _consecutive,
    "versions weeks apart": _weeks_apart,
    "5,000 lines, 30 edits": _many_kinds,
    "100,000 lines, 500 edits": lambda: _large(100_000, 500),
    "1,000,000 lines, 1,000 edits": lambda: _large(1_000_000, 1_000),
    "20,000 repeats, blocks shuffled": _hostile,
}

if __name__ == "__main__":
    main()
