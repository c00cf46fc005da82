"""What the units library makes of its definitions, kept from one start to the next in the user's own cache, since making it anew takes
half a second. A registry out."""

from __future__ import annotations

import logging
import os
import shutil
import tempfile
from pathlib import Path
from typing import Any

log = logging.getLogger(__name__)


def units_registry(place: Path) -> Any:
    """A registry of all units. place: a folder that is made where it can be, a part of it for each version of the library.

    Several programs may begin at one time and any may be killed: what is kept is made whole beside its place and then moved there in
    one step, and is made without it where it is damaged.
    """
    import pint

    kept = place / f"units-{pint.__version__}"
    if kept.is_dir():
        try:
            return _made(kept)
        except Exception:  # whatever a damaged file gives
            log.exception("units kept in %s", kept)
            shutil.rmtree(kept, ignore_errors=True)
    try:
        place.mkdir(mode=0o700, parents=True, exist_ok=True)
        beside = Path(tempfile.mkdtemp(prefix="units-", dir=place))
    except OSError:
        return _made(None)
    try:
        found = _made(beside)
        os.rename(beside, kept)
        return found
    except OSError:  # the disk is full; or another program was there first
        return _made(kept if kept.is_dir() else None)
    finally:
        shutil.rmtree(beside, ignore_errors=True)


def _made(folder: Path | None) -> Any:
    import pint

    return pint.UnitRegistry(autoconvert_offset_to_baseunit=False, cache_folder=folder)
