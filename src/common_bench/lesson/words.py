"""The state of each stage and each bench in words, as the path and the benches column show them."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

from common_bench.lesson.calibration_quality import Quality, quality
from common_bench.lesson.lesson import OpenLesson
from common_bench.lesson.pool_state import state_words
from common_bench.lesson.reading_words import plugged_words
from common_bench.lesson.run_words import count_words, kept_words, sends_no
from common_bench.model.bench import Port
from common_bench.model.measured import NO_VALUE, Measured, digits, plain
from common_bench.model.plan import Condition, SensorPlan
from common_bench.model.stream import Column, StreamFormat
from common_bench.model.trouble import words_of
from common_bench.reading.health import ColumnHealth
from common_bench.record.live import Latest
from common_bench.record.snapshot import KitState, RunState, WaitState

Stage = Literal["plan", "plug", "calibrate", "record", "work", "pool"]
STAGES: tuple[tuple[Stage, str], ...] = (
    ("plan", "Plan"), ("plug", "Plug in"), ("calibrate", "Calibrate"), ("record", "Record"), ("work", "Work up"), ("pool", "Pool"),
)  # fmt: skip
Tone = Literal["plain", "good", "amber", "red"]
NEARLY_FULL = 0.85  # share of what the speed carries
RAW_DECIMALS = 0  # raw counts are shown whole


@dataclass(frozen=True)
class BenchWords:
    """What a bench shows: second line with its tone, the big value as text, its unit."""

    line: str
    tone: Tone
    value: str
    unit: str
    guess: bool = False


def path_words(lesson: OpenLesson) -> dict[Stage, str]:
    """The state of each stage, a few words each."""
    groups = lesson.store.groups
    wanted = len(groups) * lesson.store.plan.runs_per_group
    heard = sum(1 for group in groups if lesson.roster.is_heard(group.id))
    good = sum(1 for group in groups if (kit := lesson.store.kit_of(group.id)) and _all_good(lesson, kit))
    kept = len(lesson.store.kept_runs())
    findings = sum(len(lesson.store.findings(run.id)) for run in lesson.store.kept_runs())
    sent = len({row.group for row in lesson.store.pool_rows()})
    state = state_words(lesson.store.pool_state, len(lesson.store.pool_shown), len(lesson.store.groups))
    calibrates = any(sensor.needs_points for sensor in lesson.store.plan.sensors)
    return {
        "plan": _plan_words(lesson),
        "plug": plugged_words(lesson.store, len(lesson.roster.kits), heard),
        "calibrate": f"{good} of {len(groups)} good" if calibrates else "nothing to calibrate",
        "record": count_words(kept, wanted),
        "work": "working up …" if lesson.working_up.is_busy else f"{findings} finding{'s' if findings != 1 else ''}",
        "pool": f"{state} · {sent} of {len(groups)} in",
    }


def _plan_words(lesson: OpenLesson) -> str:
    """`6 lines, all usable`, or how many things are wrong."""
    plan = lesson.store.plan
    count, wrong = len(plan.sensors) + len(plan.workings), len(lesson.store.faults)
    lines = f"{count} line{'s' if count != 1 else ''}"
    if wrong:
        return f"{lines}, {wrong} to mend"
    return f"{lines}, all usable" if count else "empty"


def _all_good(lesson: OpenLesson, kit: int) -> bool:
    sensors = lesson.store.plan.sensors
    return bool(sensors) and all(quality(lesson.store, lesson.sensors, kit, sensor).is_good for sensor in sensors)


def bench_words(lesson: OpenLesson, group: int, stage: Stage) -> BenchWords:
    """What a bench shows in a stage."""
    state = lesson.roster.state(group)
    sensor = lesson.store.sensor()
    value, unit, guess = NO_VALUE, sensor.unit if sensor else "", False
    if state is not None and sensor is not None and state.trouble is None:
        name = next((name for name in lesson.store.plan.shown if name in lesson.store.workings.kinds), "")
        latest = state.live.latest(name)
        if latest is not None and latest.value == latest.value:
            value, unit, guess = shown(latest, lesson.store.sensor_of(name)), latest.unit, latest.guess
        elif (raw := state.live.latest(f"raw {lesson.store.column_of(state.kit, sensor.channel)}")) is not None:
            value, unit = plain(raw.value, RAW_DECIMALS), "raw"
    line, tone = _line(lesson, group, stage)
    in_trouble = tone == "red" and stage in ("plug", "calibrate", "record")
    wrong = bad_calibration(lesson, group) if stage != "plan" and not in_trouble else None
    if wrong is not None:
        line, tone = (wrong.words if stage in ("calibrate", "record") else f"{wrong.words} · {line}"), "red"
    return BenchWords(line, tone, value, unit, guess)


def tile_warning(lesson: OpenLesson, group: int) -> str:
    """What the plan says of a value that is beyond one of its thresholds now; empty where none is."""
    state = lesson.roster.state(group)
    for sensor in lesson.store.plan.sensors if state is not None else ():
        latest = state.live.latest(sensor.quantity) if state is not None and sensor.warn else None
        if latest is not None and (words := sensor.warning(latest.value)):
            return f"{sensor.quantity} {shown(latest, sensor)} {latest.unit}: {words}"
    return ""


def tile_sounds(lesson: OpenLesson, group: int) -> bool:
    """Whether a bench is beyond a threshold that shall be heard."""
    state = lesson.roster.state(group)
    for sensor in lesson.store.plan.sensors if state is not None else ():
        loud = [each for each in sensor.warn if each.sound]
        latest = state.live.latest(sensor.quantity) if state is not None and loud else None
        if latest is not None and any(each.met(latest.value) for each in loud):
            return True
    return False


def shown(latest: Latest, sensor: SensorPlan | None = None) -> str:
    """A live value to the decimals that the plan gives it, or else to three at most, fewer where its uncertainty asks."""
    if sensor is not None and sensor.digits is not None:
        return plain(latest.value, sensor.digits)
    u = latest.u if latest.u == latest.u and latest.u > 0 else 0.0
    return digits(latest.value, min(u, abs(latest.value) or u) if u else 0.0, most=3)


def not_now(lesson: OpenLesson) -> str:
    """What befalls all benches just now: what is heard cannot be kept, or nothing is heard; empty where all is well."""
    trouble = lesson.roster.snapshot.trouble
    if trouble is None:
        return ""
    return "not kept now" if trouble.code.startswith("journal-") else words_of(trouble.code, "bench", {})


def _line(lesson: OpenLesson, group: int, stage: Stage) -> tuple[str, Tone]:
    state = lesson.roster.state(group)
    if stage in ("plug", "calibrate", "record") and state is not None and (befallen := not_now(lesson)):
        return befallen, "red"
    why = lesson.roster.why_not_ready(group)
    if stage in ("plug", "calibrate", "record") and why not in ("", "recording", "waits"):
        return _trouble_words(lesson, group, why)
    if stage == "plug" and state is not None:
        rate = state.rate
        return (f"{rate:.1f} lines/s" if rate == rate else "heard"), "plain"
    kit = lesson.store.kit_of(group)
    absent = lesson.roster.absent_channels(kit) if kit is not None else []
    if absent and stage in ("plug", "calibrate", "record"):
        return sends_no(absent[0]), "amber"
    if stage == "calibrate":
        return _calibration_words(lesson, group)
    if stage == "record" and state is not None:
        if state.run is not None:
            minutes, seconds = divmod(int(state.run.seconds), 60)
            return f"run {state.run.number} · {minutes}:{seconds:02d}", "plain"
        if state.waits is not None:
            timed = state.waits.due < float("inf")
            return wait_words(lesson, state.waits) if timed else "waits", "amber"
        kept = len(lesson.store.kept_runs(group))
        if warned := warning_note(lesson, group):
            return warned, "amber"
        return f"ready · {kept} kept", "good" if kept >= lesson.store.plan.runs_per_group else "plain"
    if stage == "work":
        return kept_words(lesson.store, group)
    if stage == "pool":
        sent = sum(1 for row in lesson.store.pool_rows() if row.group == group)
        return (f"{sent} finding{'s' if sent != 1 else ''}", "plain") if sent else ("none yet", "red")
    stated = lesson.store.stated(group)
    wanted = [each.name for each in lesson.store.plan.stated]
    missing = [name for name in wanted if name not in stated]
    if missing:
        return f"{missing[0]} not set", "amber"
    told = [f"{name} {stated_words(stated[name])}" for name in wanted]
    return " · ".join(told) or "nothing to set", "plain"


def progress_words(run: RunState) -> str:
    """`12 of 20 s`, `2 of 3 jump`, `14 s · ends by hand`"""
    done, wanted, what = run.progress
    if wanted == wanted:
        return f"{done:.0f} of {wanted:g} {what}"
    return f"{run.seconds:.0f} s · ends {what}"


def wait_words(lesson: OpenLesson, waits: WaitState) -> str:
    """`waits for 400 N`, `begins in 3 s`"""
    if waits.due < float("inf"):
        left = max(0.0, waits.due - lesson.engine.now()) / (
            1.0 if waits.rule.begin.kind == "countdown" else lesson.engine.speed
        )
        hours, minutes = divmod(int(left) // 60, 60)
        return f"begins in {left:.0f} s" if left < 100 else f"begins in {hours}:{minutes:02d} h"
    return f"waits for {waits.rule.begin.awaited}"


def stated_offers(condition: Condition) -> list[str]:
    """What a group may state: the entries of a list, or the values that the plan wants to be visited."""
    return [*condition.choices, *(f"{each:g} {condition.unit}".rstrip() for each in condition.values)]


def stated_words(value: Measured | str) -> str:
    """A condition in few words, without its uncertainty."""
    return value if isinstance(value, str) else f"{digits(value.value, value.u)} {value.unit}".rstrip()


def bench_note(code: str) -> str:
    """The few words that stand on a bench that cannot record, by the code of why."""
    return words_of(code, "bench", {}) or "cannot be opened"


def warning_note(lesson: OpenLesson, group: int) -> str:
    """The few words of what is wrong with a kit that can record all the same, as lines that are lost; empty where nothing is."""
    state = lesson.roster.state(group)
    return words_of(state.warning.code, "bench", {}) if state is not None and state.warning is not None else ""


def _trouble_words(lesson: OpenLesson, group: int, why: str) -> tuple[str, Tone]:
    state = lesson.roster.state(group)
    if why in ("silent", "dead") and state is not None:
        return f"silent {lesson.engine.now() - state.last_heard:.0f} s", "red"
    return bench_note(why), "amber" if why in ("listening", "no-kit", "not-plugged") else "red"


def _calibration_words(lesson: OpenLesson, group: int) -> tuple[str, Tone]:
    sensor, kit = lesson.calibrating.sensor, lesson.store.kit_of(group)
    if sensor is None or kit is None:
        return "nothing to calibrate", "plain"
    steady = lesson.sensors.steady(group, sensor.channel)
    now_steady = steady is not None and steady.steady
    taken = len(lesson.store.points(kit, sensor.channel))
    count = f"{taken}/{len(sensor.points)}"
    found = quality(lesson.store, lesson.sensors, kit, sensor)
    if found.words:
        return ("✓ steady" if now_steady and found.is_good else found.words), found.tone
    if now_steady:
        return f"✓ steady {count}", "good"
    if steady is not None and steady.expected == steady.expected and 0 < steady.expected < 3600:
        return f"in {steady.expected:.0f} s · {count}", "amber"
    return f"moving · {count}", "amber"


def bad_calibration(lesson: OpenLesson, group: int) -> Quality | None:
    """The first kept calibration of a bench that should not be used as it is; None where none is."""
    kit = lesson.store.kit_of(group)
    found = (
        [quality(lesson.store, lesson.sensors, kit, each) for each in lesson.store.plan.sensors]
        if kit is not None
        else []
    )
    return next((each for each in found if each.cause), None)


# the stage Plug in


@dataclass(frozen=True)
class KitWords:
    """A card in the list of what is plugged in: whose where no group has it, where it is, how it fares."""

    who: str
    where: str
    line: str
    tone: str = ""
    needs_you: bool = False


def kit_words(lesson: OpenLesson, kit: int) -> KitWords:
    """The card of a kit that is heard."""
    state = lesson.roster.kits[kit]
    where = lesson.store.kits[kit].name
    if lesson.roster.is_receiver(kit):
        return KitWords("receiver", where, f"relays {len(state.relayed)} kits · {_rate_words(lesson, kit)}")
    who = "no bench yet"
    if (trouble := state.trouble) is not None:
        quiet = f"{lesson.engine.now() - state.last_heard:.0f} s"
        return KitWords(who, where, card_note(trouble.code, quiet) or "cannot be opened", "red", True)
    if state.warning is not None:
        return KitWords(
            who, where, card_note(state.warning.code) or "look at this", "amber", state.warning.code != "on-change"
        )
    if state.format is None:
        return KitWords(who, where, f"{_rate_words(lesson, kit)} · no readings yet", "amber", True)
    if state.format.question:
        return KitWords(who, where, "asks how it is read", "amber", True)
    absent = lesson.roster.absent_channels(kit)
    if absent and lesson.store.group_at(kit) is not None:
        return KitWords(who, where, f"sends no column called “{absent[0]}”", "amber", True)
    return KitWords(who, where, _rate_words(lesson, kit))


def card_note(code: str, quiet: str = "") -> str:
    """The few words that stand on a kit's card, by the code of what is wrong; quiet: for how long nothing came."""
    return words_of(code, "card", {"quiet": quiet})


def port_words(port: Port) -> KitWords:
    """The card of a port that cannot be opened."""
    return KitWords("no bench yet", port.name, card_note(port.cause) or "cannot be opened", "amber", True)


def _rate_words(lesson: OpenLesson, kit: int) -> str:
    state = lesson.roster.kits[kit]
    rate = f"{state.rate:.1f} lines/s" if state.rate == state.rate else "listening"
    if state.asking is not None:
        rate = f"asked, {state.rate:.1f} answers/s" if state.rate == state.rate else "asked"
    if not state.address.has_speed:
        return f"{rate} · {state.address.kind}"
    speed = f"{state.address.speed:,}".replace(",", "\u202f")
    found = " found by trying" if state.speeds_tried > 1 else ""
    load = state.load
    full = f" · {load:.0%} of what it carries" if load == load and load > NEARLY_FULL else ""
    return f"{rate} · {speed}{found}{full}"


def proposals(lesson: OpenLesson, kit: int, format: StreamFormat) -> list[str]:
    """Texts that may stand for "no value": seen while the format was worked out, or since."""
    seen = []
    for found in lesson.sensors.health(kit):
        if found.cause == "sentinel":
            seen.append(f"{found.fields['number']:g}")
    return list(dict.fromkeys([*format.proposals, *seen]))


ROLE_WORDS = {"channel": "a channel", "clock": "the kit's clock", "kit": "which kit", "ignored": "left out"}


def column_rows(lesson: OpenLesson, kit: int) -> list[list[str | tuple[str, str]]]:
    """The table of columns: name, what it is, unit, value now, noise, range so far, health with its tone."""
    state = lesson.roster.kits[kit]
    format = state.format
    if format is None:
        return []
    health = {each.name: each for each in lesson.sensors.health(kit)}
    quantities = {lesson.store.column_of(kit, each.channel): each.quantity for each in lesson.store.plan.sensors}
    rows: list[list[str | tuple[str, str]]] = []
    for at, column in enumerate(format.columns, 1):
        name, role = f"{at} {column.name}", ROLE_WORDS[column.role]
        if column.role == "clock":
            rows.append([name, role, column.unit, *_clock_cells(state, column)])
            continue
        found = health.get(column.name)
        if found is None:
            rows.append([name, role, column.unit, NO_VALUE, NO_VALUE, NO_VALUE, ""])
            continue
        latest = state.live.latest(f"raw {column.name}")
        decimals = _decimals(found)
        if state.trouble is not None:
            rows.append(
                [
                    name,
                    role,
                    column.unit or "raw",
                    NO_VALUE,
                    NO_VALUE,
                    NO_VALUE,
                    (bench_note(state.trouble.code), "red"),
                ]
            )
            continue
        now = plain(latest.value, decimals) if latest is not None else NO_VALUE
        use = f"gives {quantities[column.name]}" if column.name in quantities else role
        noise = f"± {plain(found.noise, decimals + (found.noise < 10))}" if found.noise == found.noise else NO_VALUE
        span = f"{plain(found.low, decimals)} … {plain(found.high, decimals)}" if math.isfinite(found.low) else NO_VALUE
        words = found.words if found.missing < 0.005 or found.tone != "good" else f"good, {found.missing:.0%} missing"
        if found.tone == "good" and found.rate == found.rate:
            uneven = " unevenly" if found.uneven == found.uneven and found.uneven > 3 else ""
            words = f"{words} · {found.rate:.3g}/s{uneven} · resolution {found.step:.3g}"
        rows.append([name, use, column.unit or "raw", now, noise, span, (words, found.tone)])
    return rows


def _clock_cells(state: KitState, column: Column) -> list[str | tuple[str, str]]:
    clock = state.clock
    even = f"even, {clock.spacing * 1000:.1f} ms" if clock.spacing == clock.spacing else "listening"
    ppm = f"{(clock.rate - 1) * 1e6:+.0f} ± {clock.u_rate * 1e6:.0f} ppm".replace("-", "−")
    last = clock.last_raw
    now = plain(last / column.tick, 0) if last is not None and column.tick and column.kind != "time" else NO_VALUE
    return [now, NO_VALUE, f"drift {ppm}", (("comes unevenly", "amber") if clock.uneven else (even, "good"))]


def _decimals(found: ColumnHealth) -> int:
    if found.step >= 1 or (found.step == 0 and (not math.isfinite(found.low) or found.low == round(found.low))):
        return 0
    return min(4, max(0, -math.floor(math.log10(found.step or 0.1))))
