"""The Qt window: it watches and commands, and never computes."""
