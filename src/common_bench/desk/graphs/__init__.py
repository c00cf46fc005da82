"""Live traces and still graphs."""
