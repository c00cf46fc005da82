"""Stage 2."""
