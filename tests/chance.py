"""How often something is tried that holds by chance: as often as tells a small mistake in `make fuzz`, as a gross one does in
`make test`, which everybody waits for."""

from __future__ import annotations

import os

WHOLE = os.environ.get("PROFILE") == "explore"


def trials(whole: int, here: int) -> int:
    """whole: in `make fuzz`; here: in `make test`."""
    return whole if WHOLE else here
