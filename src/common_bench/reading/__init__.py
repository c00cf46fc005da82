"""Lines, stream formats, working a format out, blocks of readings, clocks."""
