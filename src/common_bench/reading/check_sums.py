"""Check sums behind a line. What stands before, and the digits behind, in; whether they check out."""

from __future__ import annotations

from collections.abc import Callable, Sequence

FEW = 3  # lines by which a way is tried first
ENOUGH = 0.9  # of lines that check, to say that it is a check sum


def _exclusive_or(data: bytes) -> int:
    found = 0
    for each in data:
        found ^= each
    return found


def _cyclic(data: bytes) -> int:
    """The cyclic redundancy check of eight bits, x^8 + x^2 + x + 1."""
    found = 0
    for each in data:
        found ^= each
        for _ in range(8):
            found = (found << 1) ^ 0x07 if found & 0x80 else found << 1
            found &= 0xFF
    return found


WAYS: tuple[Callable[[bytes], int], ...] = (
    _exclusive_or,
    lambda data: sum(data) & 0xFF,
    lambda data: -sum(data) & 0xFF,
    lambda data: sum(data) & 0xFFFF,
    lambda data: sum(data) % 100,
    _cyclic,
)


def checks(pairs: Sequence[tuple[str, str]]) -> bool:
    """Whether the digits behind the lines follow from what stands before in one of the usual ways; (body, digits)."""
    if not pairs:
        return False
    if len({digits for _, digits in pairs}) < 2:  # lines that stand still: only the way that all take counts
        begin = 0 if pairs[0][0][:1].isalnum() else 1
        return all(_number(digits, 16) == _exclusive_or(body[begin:].encode()) for body, digits in pairs)
    few = pairs[-FEW:]
    for trim in range(3):  # a start mark of one or two characters may not count
        for way in WAYS:
            for base in (16, 10):
                if _share(few, trim, way, base) > 0.5 and _share(pairs, trim, way, base) >= ENOUGH:
                    return True
    return False


def _share(pairs: Sequence[tuple[str, str]], trim: int, way: Callable[[bytes], int], base: int) -> float:
    """Of lines whose digits follow in this way."""
    return sum(1 for body, digits in pairs if _number(digits, base) == way(body[trim:].encode())) / len(pairs)


def _number(digits: str, base: int) -> int:
    try:
        return int(digits, base) if digits.isalnum() else -1
    except ValueError:
        return -1
