"""Stage 3."""
