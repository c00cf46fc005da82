"""Stage 4."""
