"""Stage 6."""
