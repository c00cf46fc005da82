"""Common Bench: a class's sensor kits, heard, calibrated, recorded, worked up and pooled."""

import contextlib
import ctypes
import os

__version__ = "0.1.0"

# Matrices here are small; threads for them wait by running in circles, and take the cores from what else goes on. To be said
# before NumPy is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

# By itself the C library keeps what long arrays leave behind for others like them, a hundred megabytes and more after a long run or
# file. Where it can be told, it takes each longer piece from the system and gives it back at once.
_LONGER_PIECES, _FROM = -3, 1 << 18  # M_MMAP_THRESHOLD (mallopt(3)), bytes
with contextlib.suppress(OSError, AttributeError):
    ctypes.CDLL(None).mallopt(_LONGER_PIECES, _FROM)
