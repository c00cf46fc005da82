"""Straight lines through points with errors in both coordinates; shared by calibrate, workup and pool."""
