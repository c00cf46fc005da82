"""Common Bench: a class's sensor kits, heard, calibrated, recorded, worked up and pooled."""

__version__ = "0.1.0"
