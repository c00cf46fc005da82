"""What can go wrong with a stand-in kit, by name: one table of faults for the control channel, the desk and the docs."""

from __future__ import annotations

from collections.abc import Callable

from common_bench.standins.kit import StandInKit

# Faults of the cable; the class itself does these.
CABLE = {
    "unplug": "the cable is pulled",
    "plug": "the cable is back",
    "replug": "pulled, and back under another path",
    "taken": "another program opens the port",
    "free": "the other program closes it again",
    "overload": "sends eight times as often as its line carries",
    "no overload": "sends at its usual rate again",
}
KIT: dict[str, tuple[str, Callable[[StandInKit], object]]] = {
    "silent": ("open, but nothing is sent", lambda kit: setattr(kit, "silent", True)),
    "talk": ("sends again", lambda kit: setattr(kit, "silent", False)),
    "press": ("its button is pressed", lambda kit: kit.press_button()),
    "noise": ("one line in a hundred has noise bytes in it", lambda kit: setattr(kit, "noisy", True)),
    "no noise": ("clean lines again", lambda kit: setattr(kit, "noisy", False)),
    "half lines": ("one line in ten loses its beginning", lambda kit: setattr(kit, "halves", True)),
    "whole lines": ("whole lines again", lambda kit: setattr(kit, "halves", False)),
    "bursts": ("the line stalls, then gives all at once", lambda kit: setattr(kit, "bursts", True)),
    "no bursts": ("no stalls any more", lambda kit: setattr(kit, "bursts", False)),
    "weak": ("restarts every few seconds", lambda kit: setattr(kit, "weak", True)),
    "strong": ("restarts no more", lambda kit: setattr(kit, "weak", False)),
    "drift": ("its clock runs 300 ppm fast", lambda kit: setattr(kit, "drift", 3e-4)),
    "wrap": ("after its next restart its ms clock wraps within 5 s", lambda kit: setattr(kit, "clock_from", 2**32 - 5000.0)),
    "hum50": ("50 Hz hum on its sensor", lambda kit: setattr(kit, "sensor", "hum50")),
    "hum60": ("60 Hz hum on its sensor", lambda kit: setattr(kit, "sensor", "hum60")),
    "stuck": ("its sensor shows one number only", lambda kit: setattr(kit, "sensor", "stuck")),
    "saturated": ("its sensor is at its end", lambda kit: setattr(kit, "sensor", "saturated")),
    "floating": ("its input is connected to nothing", lambda kit: setattr(kit, "sensor", "floating")),
    "good sensor": ("its sensor is as it should be", lambda kit: setattr(kit, "sensor", "")),
    "names again": ("the line of names comes again", lambda kit: kit.send(b"ms;load;temp\r\n")),
    "rubbish": ("bytes of another speed in the place of its lines", lambda kit: setattr(kit, "rubbish", "wrong speed")),
    "endless rubbish": ("bytes without any end of a line", lambda kit: setattr(kit, "rubbish", "endless")),
    "sign rubbish": ("signs in the place of its lines", lambda kit: setattr(kit, "rubbish", "letters")),
    "mostly rubbish": ("one line in five is a reading", lambda kit: setattr(kit, "rubbish", "mostly")),
    "no rubbish": ("its lines again", lambda kit: setattr(kit, "rubbish", "")),
    "long line": ("a line of a megabyte", lambda kit: kit.send(b"7" * 1_000_000 + b"\r\n")),
    "no text": ("a burst of bytes that are no text", lambda kit: kit.send(bytes(range(128, 256)) * 3 + b"\r\n")),
}  # fmt: skip
FAULTS: dict[str, str] = {
    **CABLE,
    "restart": "the reset button is pressed",
    **{name: words for name, (words, _) in KIT.items()},
}
GATES = {
    "": "sends by itself",
    "running": "runs on while nobody listens, so that it is heard from the middle of a line on",
    "button": "waits for its button",
    "menu": "waits in a menu",
    "asked": "wants to be asked",
}
