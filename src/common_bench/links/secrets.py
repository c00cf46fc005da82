"""Passwords of brokers: kept by the desktop's secret service where there is one, else in memory alone; never in a book."""

from __future__ import annotations

import contextlib
import logging
from collections.abc import Callable
from concurrent.futures import Future
from concurrent.futures import TimeoutError as NotInTime
from dataclasses import replace
from threading import Thread
from typing import Any

from common_bench.links.address import Address

SERVICE = "common-bench"
WITHIN = 2.0  # s that the secret service may take; it may ask a person first

log = logging.getLogger(__name__)


class Secrets:
    """Guarantees that a password that was typed is used for as long as the program runs, whatever the secret service does,
    and that nobody waits for that longer than WITHIN s."""

    def __init__(self) -> None:
        self._held: dict[str, str] = {}

    def filled(self, address: Address) -> Address:
        """An address with its password, if one is known; one that it has itself is kept for the next time."""
        place = _place(address)
        if not place:
            return address
        typed = address.setting("password")
        if typed:
            if self._held.get(place) != typed:
                self._held[place] = typed
                _asked(lambda: _service().set_password(SERVICE, place, typed))
            return address
        if place not in self._held:
            self._held[place] = _asked(lambda: _service().get_password(SERVICE, place)) or ""
        found = self._held[place]
        return replace(address, settings=(*address.settings, ("password", found))) if found else address


def _place(address: Address) -> str:
    """What a password belongs to; empty where an address needs none."""
    user = address.setting("user")
    return f"{user}@{address.host}:{address.port}" if address.kind == "mqtt" and user else ""


def _service() -> Any:
    import keyring

    return keyring


def _asked(question: Callable[[], Any]) -> Any:
    """Its answer; None where there is no secret service, or it takes too long."""
    answer: Future[Any] = Future()

    def ask() -> None:
        try:
            answer.set_result(question())
        except Exception as fault:  # none is there, it is locked, or it fails in a way of its own
            log.info("the secret service: %s", fault)
            with contextlib.suppress(Exception):
                answer.set_result(None)

    Thread(target=ask, name="secrets", daemon=True).start()
    try:
        return answer.result(WITHIN)
    except NotInTime:
        return None
