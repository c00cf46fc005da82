"""Steadiness, reference points, curves and their uncertainty."""
