"""Common Bench: a class's sensor kits, heard, calibrated, recorded, worked up and pooled."""

import os

__version__ = "0.1.0"

# Matrices here are small; threads for them wait by running in circles, and take the cores from what else goes on. To be said
# before NumPy is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
