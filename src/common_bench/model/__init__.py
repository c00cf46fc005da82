"""The nouns as frozen value types; imports nothing of ours."""

from common_bench.offers import names_of, offering

OFFERS = {
    "bench": ("Emblem", "emblem_for", "Group", "Kit", "Port", "StandInNotice"),
    "block": ("NO_FLOATS", "Block", "Bools", "Events", "Floats", "Ints", "joined", "Series", "Source", "Stamped"),
    "calibration": ("Calibration", "curve_key", "CurveChoice", "Frame", "PlannedPoint", "Readings", "ReferencePoint"),
    "class_line": ("STANDS_OUT", "ClassLine", "ClassPoint", "ClassResult", "GroupPlace"),
    "measured": ("NO_VALUE", "digits", "Measured", "number", "places", "plain", "read_measured", "written"),
    "plan": (
        "as_bytes",
        "AskPlan",
        "CommandPlan",
        "Condition",
        "Plan",
        "plan_from_file",
        "plan_from_text",
        "plan_to_text",
        "RulePlan",
        "SensorPlan",
        "shipped_plan",
    ),
    "run": ("Ending", "Finding", "KeptTrouble", "Moment", "PoolRow", "Run", "RunSetting", "Share"),
    "stream": ("ASSUMED_NO_VALUE", "DIALECT_WORDS", "ClockState", "Column", "Role", "StreamFormat", "ValueKind"),
    "trouble": (
        "as_another",
        "BookTrouble",
        "CalibrationTrouble",
        "EngineTrouble",
        "FindingTrouble",
        "LinkTrouble",
        "PlanTrouble",
        "PoolTrouble",
        "Trouble",
        "UnitTrouble",
        "words_of",
        "WorkingTrouble",
    ),
    "units": ("conversion", "counts_from_own_zero", "is_unit", "power", "product", "same_kind", "unit"),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
