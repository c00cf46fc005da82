"""Links as they are written: a path or a URL in, its parts out."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Literal
from urllib.parse import parse_qs, quote, unquote

from common_bench.model.trouble import LinkTrouble

USUAL_SPEED = 115_200
SPEEDS = (115_200, 9_600, 57_600, 38_400, 19_200, 230_400, 250_000, 460_800, 921_600, 74_880, 4_800, 2_400)
LinkKind = Literal["serial", "tcp", "rfc2217", "mqtt", "file"]
PLAIN = "/:@~,;'!"  # characters that need no quoting in a link
USUAL_PORT = {"tcp": 0, "rfc2217": 0, "mqtt": 1883}
FORMS = {
    "tcp": "tcp://host:port",
    "rfc2217": "rfc2217://host:port",
    "mqtt": "mqtt://host/topic",
    "file": "file:PATH",
}
# What can be set in a link of each kind, and the values that serial settings take.
SETTINGS: dict[str, tuple[str, ...]] = {
    "serial": ("speed", "bits", "parity", "stop", "flow"),
    "rfc2217": ("speed", "bits", "parity", "stop", "flow"),
    "tcp": (),
    "mqtt": ("version", "send", "user", "password"),
    "file": ("pace", "rate"),
}
CHOICES: dict[str, tuple[str, ...]] = {
    "bits": ("5", "6", "7", "8"),
    "parity": ("none", "even", "odd", "mark", "space"),
    "stop": ("1", "1.5", "2"),
    "flow": ("none", "hardware", "software"),
    "version": ("3.1.1", "5"),
}


@dataclass(frozen=True)
class Address:
    """Where a link leads: a serial port's path, a host with its port, a broker's topic, a file.

    `speed` in baud; `settings` in the order in which they were given (without speed).
    """

    path: str
    speed: int = USUAL_SPEED
    kind: LinkKind = "serial"
    host: str = ""
    port: int = 0
    settings: tuple[tuple[str, str], ...] = field(default=())
    given: frozenset[str] = field(default=frozenset(), compare=False)  # what the link as written says itself

    @property
    def paced(self) -> bool:
        """Whether lines come when they were sent, as they do not where a file of text is replayed at some rate."""
        return self.kind != "file" or self.path.endswith(".tape")

    @property
    def has_speed(self) -> bool:
        return self.kind in ("serial", "rfc2217")

    @property
    def bits(self) -> int:
        """That a byte takes on the wire, with those that frame it."""
        return 2 + int(self.setting("bits", "8")) + (self.setting("parity", "none") != "none")

    @property
    def host_text(self) -> str:
        """The host as it stands before a port: one with colons of its own in brackets."""
        return f"[{self.host}]" if ":" in self.host else self.host

    @property
    def name(self) -> str:
        """Without settings, as it is shown."""
        if self.kind == "serial":
            return self.path
        if self.kind == "file":
            return f"file:{self.path}"
        host = self.host_text
        place = f"{host}:{self.port}" if self.port != USUAL_PORT[self.kind] else host
        return f"{self.kind}://{place}" + (f"/{self.path}" if self.path else "")

    @property
    def text(self) -> str:
        """As it is written and read again, but for a password, which is not for books and screens."""
        given = [("speed", str(self.speed))] if self.has_speed and self.speed != USUAL_SPEED else []
        open_ones = [(name, value) for name, value in self.settings if name != "password"]
        query = "&".join(f"{name}={quote(value, safe=PLAIN)}" for name, value in [*given, *open_ones])
        name = f"file:{quote(self.path, safe=PLAIN)}" if self.kind == "file" else self.name
        return name + (f"?{query}" if query else "")

    def at(self, speed: int) -> Address:
        return replace(self, speed=speed)

    def moved(self, path: str) -> Address:
        """The same port under another path."""
        return replace(self, path=path)

    def setting(self, name: str, usual: str = "") -> str:
        return next((value for kept, value in self.settings if kept == name), usual)


def read_address(link: str) -> Address:
    """Raises LinkTrouble where the text is no link that can be opened."""
    link = link.strip()
    path, _, query = link.partition("?")
    scheme = path.partition(":")[0] if "://" in path or path.startswith("file:") else "serial"
    if scheme not in SETTINGS:
        raise LinkTrouble("no-such-kind-of-link", where=link, scheme=scheme, known=', '.join(FORMS.values()))  # fmt: skip
    if not path:
        raise LinkTrouble("link-missing")
    speed, settings = _settings(link, scheme, query)
    given = frozenset(parse_qs(query, keep_blank_values=True))
    if scheme == "serial":
        return Address(path, speed, settings=settings, given=given)
    if scheme == "file":
        where = unquote(path.removeprefix("file:").removeprefix("//"))
        if not where:
            raise LinkTrouble("file-name-missing", where=link)
        return Address(where, kind="file", settings=settings)
    place, _, topic = path.removeprefix(f"{scheme}://").partition("/")
    host, colon, port = place.rpartition(":") if not place.endswith("]") and ":" in place else (place, "", "")
    if host.startswith("[") and host.endswith("]"):
        host = host[1:-1]
    elif ":" in host:
        host = ""  # which of its colons stands before the port is anybody's guess
    number = int(port) if colon and port.isascii() and port.isdigit() else USUAL_PORT[scheme] if not colon else -1
    if not host or not 0 < number < 65_536 or (scheme == "mqtt") != bool(topic):
        raise LinkTrouble("address-not-whole", where=link, forms=FORMS[scheme])
    if topic and not _is_filter(topic):
        raise LinkTrouble("topic-impossible", where=link)
    return Address(topic, speed, scheme, host, number, settings)  # type: ignore[arg-type]


def _is_filter(topic: str) -> bool:
    """Whether a topic can be asked for (MQTT 3.1.1, 4.7): + stands for a whole level, # for all that follow."""
    levels = topic.split("/")
    whole = all(level == "+" or "+" not in level for level in levels)
    last = all("#" not in level for level in levels[:-1]) and (levels[-1] == "#" or "#" not in levels[-1])
    return whole and last and "\0" not in topic and len(topic.encode()) < 65_536


def _settings(link: str, scheme: str, query: str) -> tuple[int, tuple[tuple[str, str], ...]]:
    asked = {name: values[-1] for name, values in parse_qs(query, keep_blank_values=True).items()}
    known = SETTINGS[scheme]
    unknown = sorted(set(asked) - set(known))
    if unknown:
        raise LinkTrouble(
            "no-such-setting", where=link, name=unknown[0], known=", ".join(known), case="some" if known else "none"
        )
    for name, values in CHOICES.items():
        if name in asked and asked[name] not in values:
            raise LinkTrouble("setting-not-a-choice", where=link, name=name, asked=asked[name], known=", ".join(values))
    for name in ("pace", "rate"):
        if name in asked and not _is_pace(asked[name]):
            raise LinkTrouble("setting-not-a-number", where=link, name=name, asked=asked[name])
    text = asked.pop("speed", str(USUAL_SPEED))
    if not (text.isascii() and text.isdigit()) or not 50 <= int(text) <= 4_000_000:
        raise LinkTrouble("no-such-speed", where=link, text=text)
    return int(text), tuple((name, asked[name]) for name in known if name in asked)


def _is_pace(text: str) -> bool:
    try:
        return 0.001 <= float(text) <= 1e6
    except ValueError:
        return False
