"""The source of what was averaged."""

from __future__ import annotations

from common_bench.model.block import Source


def averaged(source: Source, name: str) -> Source:
    """Of what is independent from reading to reading, the share that several readings have in a form at this place."""
    return source._replace(which=f"{source.which} in {name}")
