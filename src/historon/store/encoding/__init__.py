"""Bytes in, bytes out: how contents are written down, without knowing where. Here they would be encrypted too."""

from typing import TYPE_CHECKING

from historon.base.lazily import lazily

if TYPE_CHECKING:
    from historon.store.encoding.codec import DamagedError, pack, unpack, unpack_pieces
    from historon.store.encoding.deltas import (
        CHAIN_BYTES,
        EPOCH,
        LONGEST_CHAIN,
        SPANS,
        Encoding,
        base_of,
        decode,
        encode,
        encode_whole,
        next_epoch,
        sketch,
    )
    from historon.store.encoding.numbers import no_bits, packed_bits, read_varints, unpacked_bits, varints, with_numbers
    from historon.store.encoding.records import Bundle, Record, bundled


__all__ = [
    "CHAIN_BYTES",
    "EPOCH",
    "LONGEST_CHAIN",
    "SPANS",
    "Bundle",
    "DamagedError",
    "Encoding",
    "Record",
    "base_of",
    "bundled",
    "decode",
    "encode",
    "encode_whole",
    "next_epoch",
    "no_bits",
    "pack",
    "packed_bits",
    "read_varints",
    "sketch",
    "unpack",
    "unpack_pieces",
    "unpacked_bits",
    "varints",
    "with_numbers",
]

__getattr__ = lazily(
    __name__,
    {
        "codec": ["DamagedError", "pack", "unpack", "unpack_pieces"],
        "deltas": [
            "CHAIN_BYTES",
            "EPOCH",
            "LONGEST_CHAIN",
            "SPANS",
            "Encoding",
            "base_of",
            "decode",
            "encode",
            "encode_whole",
            "next_epoch",
            "sketch",
        ],
        "numbers": ["no_bits", "packed_bits", "read_varints", "unpacked_bits", "varints", "with_numbers"],
        "records": ["Bundle", "Record", "bundled"],
    },
)
