"""Check sums behind a line. What stands before, and the digits behind, in; whether they check out."""

from __future__ import annotations

from collections.abc import Callable, Sequence

FEW = 3  # lines by which a way is tried first
LARGEST = 0xFFFF
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
    bases = [base for base in (16, 10) if _can_be(few, base)]
    for trim in range(3) if bases else ():  # a start mark of one or two characters may not count
        for way in WAYS:
            sums = [way(body[trim:].encode()) for body, _ in few]
            for base in bases:
                good = sum(1 for (_, digits), found in zip(few, sums, strict=True) if _number(digits, base) == found)
                if 2 * good > len(few) and _share(pairs, trim, way, base) >= ENOUGH:
                    return True
    return False


def may_check(body: str, digits: str) -> bool:
    """Whether one line's digits are a check sum in one of the two plainest ways; by chance 1 in 60 are."""
    return any(_number(digits, base) == way(body.encode()) for way in WAYS[:2] for base in (16, 10))


def _can_be(pairs: Sequence[tuple[str, str]], base: int) -> bool:
    """Whether most of the digits could be a check sum at all."""
    return 2 * sum(1 for _, digits in pairs if 0 <= _number(digits, base) <= LARGEST) > len(pairs)


def _share(pairs: Sequence[tuple[str, str]], trim: int, way: Callable[[bytes], int], base: int) -> float:
    """Of lines whose digits follow in this way."""
    return sum(1 for body, digits in pairs if _number(digits, base) == way(body[trim:].encode())) / len(pairs)


def _number(digits: str, base: int) -> int:
    try:
        return int(digits, base) if digits.isalnum() else -1
    except ValueError:
        return -1
