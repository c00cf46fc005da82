"""A long file in pieces of whole lines, each made smaller by a thread of its own while the file is still looked at: the bytes of a file in;
what a book keeps of each piece out."""

from __future__ import annotations

from concurrent.futures import Future, ThreadPoolExecutor
from itertools import pairwise

from common_bench.book.deflate import check_sum, deflated

PIECE = 1 << 21  # bytes


class FilePieces:
    """Guarantees that the pieces, one after the other, are the file, that each but the first begins with a line, and that nobody waits for
    them but who asks for one."""

    def __init__(self, data: bytes) -> None:
        self.are_wanted = False
        """Whether somebody has asked for them to be kept."""
        cuts = [0]
        while len(data) - cuts[-1] > PIECE and (cut := data.rfind(b"\n", cuts[-1], cuts[-1] + PIECE) + 1):
            cuts.append(cut)
        self.bounds = [*cuts, len(data)]
        """Bytes at which each begins, and the end."""
        view, packer = memoryview(data), ThreadPoolExecutor(1, thread_name_prefix="pieces")
        self.check_sum = packer.submit(check_sum, data)
        """Of the whole file."""
        self._packed = [packer.submit(deflated, view[low:high], quick=True) for low, high in pairwise(self.bounds)]
        packer.shutdown(wait=False)

    def packed(self, at: int) -> Future[bytes]:
        """One of them, deflated."""
        return self._packed[at]

    def give_up(self) -> None:
        """Those that are not packed yet need not be, where nobody wants them."""
        for each in [] if self.are_wanted else self._packed:
            each.cancel()
