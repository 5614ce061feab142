import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from historon.base.sequences import common_end, common_start
from historon.store.encoding.deltas import Encoding, decode, encode, encode_whole
from historon.store.encoding.numbers import read_varints, varints

_texts = st.lists(
    st.sampled_from(
        [b"a\n", b"bb\n", b"interface port-1\n", b"  description something long enough\n", b"\0\xff", b"x"]
    ),
    max_size=200,
).map(b"".join)


@given(_texts, _texts, st.booleans())
def test_what_is_encoded_decodes_again(base: bytes, content: bytes, thorough: bool) -> None:
    encoding, data = encode(content, base, thorough=thorough)
    assert decode(encoding, data, base, len(content)) == content
    whole = encode_whole(content)
    assert decode(*whole, b"", len(content)) == content


@given(_texts, st.integers(0, 300), st.binary(max_size=30))
def test_a_local_edit_is_a_short_splice(base: bytes, at: int, new: bytes) -> None:
    content = base[:at] + new + base[at + 7 :]
    encoding, data = encode(content, base)
    assert decode(encoding, data, base, len(content)) == content


@given(st.binary(max_size=200), st.binary(max_size=100), st.sampled_from(list(Encoding)))
def test_damaged_data_never_does_worse_than_an_error(data: bytes, base: bytes, encoding: Encoding) -> None:
    try:
        decode(encoding, data, base, 50)
    except ValueError as exc:
        assert str(exc)


def test_repetitive_text_does_not_lead_the_splice_astray() -> None:
    rng = random.Random(5)
    lines = [b"  permit any 10.0.0.%d\n" % (n % 7) for n in range(3000)]
    changed = list(lines)
    for at in rng.sample(range(3000), 5):
        changed[at] = b"  permit none\n"
    encoding, data = encode(b"".join(changed), b"".join(lines))
    assert encoding is Encoding.SPLICE
    assert len(data) < 400


@given(st.lists(st.integers(0, 2**62)))
def test_varints_read_back(numbers: list[int]) -> None:
    assert read_varints(varints(numbers))[0] == numbers


def test_a_cut_off_varint_is_an_error() -> None:
    with pytest.raises(ValueError, match="middle of a number"):
        read_varints(b"\x80")


@given(st.binary(max_size=40), st.binary(max_size=400), st.binary(max_size=400))
def test_common_ends_are_found(same: bytes, left: bytes, right: bytes) -> None:
    plain = next((n for n in range(min(len(left), len(right))) if left[n] != right[n]), min(len(left), len(right)))
    assert common_start(same + left, 0, same + right, 0) == len(same) + plain
    back = next(
        (n for n in range(min(len(left), len(right))) if left[-1 - n] != right[-1 - n]), min(len(left), len(right))
    )
    assert common_end(left, right, min(len(left), len(right))) == back
