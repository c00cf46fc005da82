"""Palette, type and emblems."""
