"""Simulated kits, classes and faults, on real pseudo-terminals."""
