"""What is wrong with a kit whose link is open: silent, waiting, unreadable, restarting, too much. A connection in; its
trouble, its warning, and another speed to try, out."""

from __future__ import annotations

from common_bench.links.address import Address
from common_bench.links.causes import trouble
from common_bench.model.trouble import LinkTrouble
from common_bench.reading.prompts import waiting_for
from common_bench.record.connection import QUIET_CODES, RESTARTS, RESTARTS_WITHIN, UNREAD_CODES, KitConnection
from common_bench.record.tally import LOOK_BACK

SILENT_AFTER = 2.0  # s without a byte
SILENT_SPACINGS = 4.0  # usual spacings without a byte
DEAD_AFTER = 4.0  # s after opening without any byte
STANDS_AFTER = 1.0  # s that a host lets a connection stand, before it is believed though it says nothing
FULL = 0.95  # share of what the speed carries
GARBLED = 0.05  # share of lines that cannot be read
LEAST_LINES = 20  # of the last seconds, before a share of lines is told
MOSTLY = 0.5  # share of lines that cannot be read, from which the kit cannot be used
UNREAD_AFTER, UNREAD_SPACINGS = 1.0, 4.0  # s, and usual spacings, without a reading while something comes
UNREAD_LINES, UNREAD_WORDS, UNREAD_BYTES = (
    5,
    20,
    400,
)  # unreadable lines, lines of words, bytes, of what is no reading, before it is called that
HELD_SHOWN = 200  # bytes of an open line that may be a prompt


def judge(kit: KitConnection, at: float) -> Address | None:
    """Says what is wrong with an open link; gives another speed to try where this one cannot be read."""
    if kit.unanswered and at - kit.opened_at > STANDS_AFTER:
        kit.own_trouble = None
    _judge_silence(kit, at)
    _judge_unread(kit, at)
    kit.warning = _warning(kit, at)
    if not kit.speed.is_wrong(kit.since_open, kit.readable, at - kit.opened_at):
        return None
    kit.own_trouble = trouble("unreadable", kit.address.name, share="all")
    return kit.speed.next(kit.address)


def _judge_silence(kit: KitConnection, at: float) -> None:
    if kit.own_trouble is not None and kit.own_trouble.code not in QUIET_CODES:
        return
    quiet = at - (kit.last_reading if kit.parent else kit.last_heard)
    spacing = kit.chain.reader.clock.spacing
    asked = kit.asking.plan.every + kit.asking.plan.within if kit.asking else 0.0
    limit = max(SILENT_AFTER, SILENT_SPACINGS * spacing if spacing == spacing else 0.0, 2 * asked)
    if quiet <= (limit if kit.since_open else max(limit, DEAD_AFTER)):
        return
    link = kit.address.name
    seconds = f"{quiet:.0f} s" if quiet < 120 else f"{quiet / 60:.0f} min"
    held = kit.chain.reader.cutter.held[:HELD_SHOWN].decode("utf-8", "replace")
    waiting = waiting_for([*kit.words, held]) if kit.readings == 0 or kit.tape.spoke_last else None
    if waiting is not None:
        key = waiting.send if waiting.send.strip() else "Enter"
        kit.own_trouble = trouble(waiting.cause, link, words=f"“{waiting.words[:80]}”", key=key, send=waiting.send)
    elif kit.sends_on_change:
        kit.own_trouble = None  # it is alive; the warning says that nothing has changed
    elif not kit.since_open and kit.total == 0:
        kit.own_trouble = trouble("dead", link, seconds=seconds)
    else:
        kit.own_trouble = trouble("silent", link, seconds=seconds)


def _judge_unread(kit: KitConnection, at: float) -> None:
    """A kit whose readings were understood and that sends now what is none: its last value says nothing of the sensor any more,
    and a run would record nothing."""
    own, reader = kit.own_trouble, kit.chain.reader
    if kit.parent or reader.format is None or (own is not None and own.code not in UNREAD_CODES):
        return
    spacing = reader.clock.spacing
    lines, bad = kit.tally.lines_and_unreadable
    since, unread, size = kit.unread
    quiet = at - kit.last_reading
    nothing = quiet > max(UNREAD_AFTER, UNREAD_SPACINGS * spacing if spacing == spacing else 0.0)
    words = since >= UNREAD_WORDS and not kit.sends_on_change
    endless = size >= UNREAD_BYTES and (unread > 0 or len(reader.cutter.held) >= UNREAD_BYTES)
    rubbish = unread >= UNREAD_LINES or words or endless
    mostly = lines >= LEAST_LINES and bad > MOSTLY * lines
    if kit.readings and ((nothing and rubbish) or mostly):
        code = "unlike" if reader.format.by_hand and nothing else "not-read"
        kit.own_trouble = trouble(code, kit.address.name, share="all" if nothing or not lines else f"{bad / lines:.0%}")
    elif own is not None:
        kit.own_trouble = None


def _warning(kit: KitConnection, at: float) -> LinkTrouble | None:
    link = kit.address.name
    told: LinkTrouble | None = getattr(kit.link, "warning", None)
    if told is not None:
        return told
    if len(kit.restarts) == RESTARTS and at - kit.restarts[0] < RESTARTS_WITHIN:
        return trouble("restarting", link, seconds=str(len(kit.restarts)))
    load = kit.load
    if load > FULL:
        return trouble("overload", link, speed=str(kit.address.speed), share=f"{load:.0%}")
    lines, bad = kit.tally.lines_and_unreadable
    format = kit.chain.reader.format
    if format is not None and kit.own_trouble is not None and kit.own_trouble.code in UNREAD_CODES:
        return None  # said already
    if lines >= LEAST_LINES and format is not None and format.by_hand and at - kit.last_reading > LOOK_BACK:
        return trouble("unlike", link)
    if lines >= LEAST_LINES and bad > GARBLED * lines:
        return trouble("ragged" if kit.ragged > bad / 2 else "garbled", link, share=f"{bad / lines:.0%}")
    quiet = at - kit.last_reading
    if kit.sends_on_change and quiet > SILENT_AFTER and kit.trouble is None:
        return trouble("on-change", link, seconds=f"{quiet:.0f} s")
    return None
