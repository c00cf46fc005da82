"""The shelf: classes, their lessons, and plans to begin with."""
