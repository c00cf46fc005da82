"""The frame of the window: path, benches, stage, tape."""
