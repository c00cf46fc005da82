"""The worlds: one file each."""
