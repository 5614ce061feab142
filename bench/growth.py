"""How the time of comparing grows with the number of lines, for every form of text and every way of changing it."""

import random
import time
from collections.abc import Callable, Iterator, Sequence
from itertools import chain
from math import log

from historon.compare import compare_exports
from historon.insight import Reader, fingerprints, texts_of
from historon.versions import Masks

SIZES = (1_000, 8_000, 64_000)
_LONG_ENOUGH = 0.3  # seconds for one figure
MOST = 1.2  # the power of the number of lines that the time may grow with

_Lines = list[str]
_Blocks = list[_Lines]


def main() -> None:
    """Print, for each, the time at each size and the power by which it grows."""
    sizes = ", ".join(f"{size:,}" for size in SIZES)
    print(f"growth        comparing and telling, seconds at {sizes} lines, and the power that it grows with ({MOST})")
    for form, blocks_of in _FORMS.items():
        for way, changed in _WAYS.items():
            times = [_took(blocks_of(size), changed) for size in SIZES]
            power = log(times[-1] / times[0]) / log(SIZES[-1] / SIZES[0])
            told = "  ".join(f"{seconds:6.2f}" for seconds in times)
            print(f"              {form:<12}{way:<22}{told}  {power:4.2f}{'  more than wanted' * (power > MOST)}")


def _took(blocks: _Blocks, changed: Callable[[random.Random, _Blocks], _Lines]) -> float:
    old = "".join(chain.from_iterable(blocks)).encode()
    new = "".join(changed(random.Random(7), blocks)).encode()
    best, spent = 1e9, 0.0
    while spent < _LONG_ENOUGH:
        began = time.perf_counter()
        changes = compare_exports({"p": old}, {"p": new}, Masks(key=b"k"))
        fingerprints(changes, Reader(["edge-1"], texts_of(changes)))
        best = min(best, time.perf_counter() - began)
        spent += best
    return best


def _indented(size: int) -> _Blocks:
    return [
        [f"interface port-{n}\n", f"  mtu {1500 + n % 7}\n", f"  description berth {n}\n", "!\n"]
        for n in range(size // 4)
    ]


def _braces(size: int) -> _Blocks:
    return [[f"port p{n} {{\n", f"    mtu {n % 7};\n", f"    name berth-{n};\n", "}\n"] for n in range(size // 4)]


def _words(size: int) -> _Blocks:
    inner = [[f" edit {n}\n", f"  set mtu {n % 7}\n", f"  set name berth-{n}\n", " next\n"] for n in range(size // 4)]
    return [["config interface\n"], *inner, ["end\n"]]


def _headers(size: int) -> _Blocks:
    return [[f"[port {n}]\n", f"mtu = {n % 7}\n", f"name = berth-{n}\n", "\n"] for n in range(size // 4)]


def _set_lines(size: int) -> _Blocks:
    return [[f"set ports p{n // 4} item{n % 4} value {n}\n"] for n in range(size)]


def _flat(size: int) -> _Blocks:
    return [[f"item_{n} {n % 11}\n"] for n in range(size)]


def _deep(size: int) -> _Blocks:
    return [[" " * (n % 40) + f"level {n}\n"] for n in range(size)]


def _equal(size: int) -> _Blocks:
    return [["allow any\n"], ["  log\n"]] * (size // 2)


def _xml(size: int) -> _Blocks:
    inner = [
        [f'<port name="p{n}">\n', f"<mtu>{n % 7}</mtu>\n", f"<is>berth {n}</is>\n", "</port>\n"]
        for n in range(size // 4)
    ]
    return [["<c>\n"], *inner, ["</c>\n"]]


def _one_edited(rng: random.Random, blocks: _Blocks) -> _Lines:
    made = list(_lines(blocks))
    made[len(made) // 2 + 1] = made[len(made) // 2 + 1].replace("1", "9").replace("b", "z")
    return made


def _every_third_edited(rng: random.Random, blocks: _Blocks) -> _Lines:
    return [_edited(line) if n % 3 == 1 else line for n, line in enumerate(_lines(blocks))]


def _edited(line: str) -> str:
    """Another value, also in XML, where it stands before the tag that closes."""
    return line.replace("</", "x</") if line.startswith("<") else f"{line[:-2]}x{line[-2:]}"


def _tenth_gone(rng: random.Random, blocks: _Blocks) -> _Lines:
    return list(_lines([blocks[0], *(one for one in blocks[1:-1] if rng.random() > 0.1), blocks[-1]]))


def _shuffled(rng: random.Random, blocks: _Blocks) -> _Lines:
    inner = blocks[1:-1]
    rng.shuffle(inner)
    left = inner[: len(inner) * 9 // 10]  # also one in ten less, as order alone is reported without its lines
    return list(_lines([blocks[0], *left, blocks[-1]]))


def _lines(blocks: Sequence[_Lines]) -> Iterator[str]:
    return chain.from_iterable(blocks)


_FORMS: dict[str, Callable[[int], _Blocks]] = {
    "indentation": _indented,
    "braces": _braces,
    "words": _words,
    "headers": _headers,
    "set lines": _set_lines,
    "flat": _flat,
    "deep": _deep,
    "repeated": _equal,
    "XML": _xml,
}
_WAYS: dict[str, Callable[[random.Random, _Blocks], _Lines]] = {
    "one line edited": _one_edited,
    "every third edited": _every_third_edited,
    "one in ten gone": _tenth_gone,
    "shuffled": _shuffled,
}
