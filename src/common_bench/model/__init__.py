"""The nouns as frozen value types; imports nothing of ours."""

from common_bench.offers import names_of, offering

OFFERS = {
    "bench": ("Emblem", "emblem_for", "Group", "HUES", "Kit", "Port", "SHAPES", "StandInNotice",),
    "block": ("Block", "Bools", "Events", "Floats", "Ints", "joined", "NO_FLOATS", "Series", "Source", "Stamped",),
    "calibration": ("Calibration", "curve_key", "CurveChoice", "Frame", "PlannedPoint", "Readings", "ReferencePoint",),
    "class_line": ("ClassLevel", "ClassLine", "ClassPoint", "ClassResult", "GroupPlace", "MEAN", "SCATTER", "STANDS_OUT",),
    "measured": ("digits", "Measured", "NO_VALUE", "number", "places", "plain", "read_measured", "written",),
    "plan": ("as_bytes", "AskPlan", "ClassGraph", "CommandPlan", "Condition", "measured_line", "OFF", "Plan", "RulePlan", "SensorPlan", "Threshold",),
    "plan_file": ("plan_from_file", "plan_from_text", "plan_schema", "plan_to_file", "plan_to_text", "shipped_names", "shipped_plan", "SUFFIX",),
    "run": ("Ending", "Finding", "KeptTrouble", "Moment", "PoolRow", "Run", "RunSetting", "Share",),
    "stream": ("ASSUMED_NO_VALUE", "ClockState", "Column", "Dialect", "DIALECT_WORDS", "Role", "StreamFormat", "ValueKind",),
    "trouble": ("as_another", "BookTrouble", "CalibrationTrouble", "EngineTrouble", "FindingTrouble", "LinkTrouble", "PlanTrouble", "PoolTrouble", "Trouble", "UnitTrouble", "words_of", "WorkingTrouble",),
    "units": ("conversion", "counts_from_own_zero", "is_unit", "power", "product", "same_kind", "unit",),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
