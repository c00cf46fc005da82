"""Bytes in less room, in the deflate format that every language reads (RFC 1950, RFC 1951), and whole again."""

from __future__ import annotations

import zlib

from isal import isal_zlib

THOROUGH = 6  # of zlib, where nobody waits for it
DAMAGED: type[Exception] = isal_zlib.error  # type: ignore[assignment]  # an exception, which its types do not say
QUICK = 1  # of the library that uses the processor's vectors: five times as quick, in as much room as zlib's level 2


def deflated(data: bytes | memoryview, *, quick: bool = False) -> bytes:
    """quick: for what is brought in while somebody waits."""
    return isal_zlib.compress(data, QUICK) if quick else zlib.compress(data, THOROUGH)


def check_sum(data: bytes) -> int:
    """CRC-32 (ISO 3309)."""
    return int(isal_zlib.crc32(data))


def inflated(data: bytes) -> bytes:
    """Raises ValueError where these are no longer the bytes that `deflated` gave."""
    try:
        return isal_zlib.decompress(data)
    except DAMAGED as fault:
        raise ValueError("its packed cells cannot be read") from fault
