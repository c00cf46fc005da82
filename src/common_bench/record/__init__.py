"""Rules, runs, the journal, and the engine that drives the flow."""

from common_bench.offers import names_of, offering

OFFERS = {
    "apart": (
        "AnyEngine",
        "AnyJournal",
        "engine_apart",
        "prepare",
    ),
    "chain": ("Chain",),
    "crash_report": (
        "end_watching",
        "take_reports",
        "watch_c_stack",
        "watch_for_crashes",
    ),
    "engine": (
        "Engine",
        "PATIENCE",
    ),
    "events": ("EngineEvent",),
    "live": ("Latest",),
    "replay": (
        "as_recorded",
        "quantities",
        "replay",
        "Replayed",
        "RunReading",
    ),
    "replaying": (
        "Played",
        "RunReplay",
    ),
    "rules": (
        "End",
        "OWN",
        "renamed_in_rule",
        "Rule",
        "rule_of",
    ),
    "runs": ("Recorded",),
    "snapshot": (
        "KitState",
        "RunState",
        "Snapshot",
        "WaitState",
    ),
    "speed": (
        "LEAST_BYTES",
        "TEXT_BYTES",
        "TEXT_SHARE",
        "TRY_SPEED_FOR",
    ),
    "supervision": ("JOINED",),
    "tape": ("TapeLine",),
    "traces": (
        "Picture",
        "thinned",
    ),
    "which": ("WhichIsWhich",),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
