"""Opening a link of any kind. An address in; an open link out, or a LinkTrouble with its cause."""

from __future__ import annotations

from common_bench.links.address import Address
from common_bench.links.link import Link

LONGEST_PAUSE = 10.0  # s between two tries to reach a host
FIRST_PAUSE = 0.5  # s


def open_link(address: Address) -> Link:
    """Raises LinkTrouble at once for a serial port that cannot be opened; the others say so when they are read."""
    if address.kind == "serial":
        from common_bench.links.serial_link import SerialLink

        return SerialLink(address)
    if address.kind == "file":
        from common_bench.links.file_link import FileLink

        return FileLink(address)
    from common_bench.links.network import network_link

    return network_link(address)


def pause_before_retry(address: Address, failures: int) -> float:
    """s to wait before the next try: always the same for a port, growing for a host."""
    if address.kind == "serial":
        return FIRST_PAUSE
    return float(min(LONGEST_PAUSE, FIRST_PAUSE * 2 ** min(failures, 10)))
