"""A lesson as it is held: what the book holds, who is heard, and the stages as actions; without a window."""

from common_bench.offers import names_of, offering

OFFERS = {
    "calibrating": ("KeptCalibration", "Taking",),
    "calibration_words": ("curve_shown", "grid_heads", "grid_rows", "inside_limits", "point_rows", "point_words", "report", "sentence_words", "Shown", "steady_line", "steady_numbers",),
    "change_words": ("change_words",),
    "condition_text": ("condition_faults", "condition_line", "read_condition_line",),
    "demonstration": ("demonstrate", "plug_in", "prepared_lesson",),
    "exporting": ("export_all", "pool_export",),
    "from_file": ("as_json", "as_words", "calibration_from",),
    "known_books": ("books_folder", "forget", "known_books", "KnownBook", "remember",),
    "lesson": ("lesson_summary", "OpenLesson",),
    "lessons": ("book_entry", "BookEntry", "class_register", "LessonEntry", "make_class",),
    "line_values": ("line_value",),
    "listening": ("listen",),
    "plan_checking": ("faults_of", "PlanFault",),
    "plan_details": ("DETAILS", "with_detail",),
    "plan_editing": ("as_finding", "completions", "copied", "correction", "level_in", "lines_of", "looked_at", "looked_over", "moved", "pause_in", "PlanLine", "ready_lines", "shown_first", "switched", "with_line", "with_number", "without_line", "word_before",),
    "plan_effect": ("effect_words",),
    "plan_library": ("all_plans", "empty_plan", "find_plan", "keep_plan", "KeptPlan", "library_folder", "plan_from_columns",),
    "plan_words": ("read_aloud", "sections",),
    "reading_words": ("change_words", "lead_words", "shape_words", "shown_readings", "sure_words",),
    "recording": ("record",),
    "register": ("aliases_from", "Register",),
    "roster": ("ENDINGS",),
    "scouting": ("heard_words", "Scout",),
    "store": ("LessonStore",),
    "words": ("age_words", "bench_note", "bench_words", "capital", "column_rows", "kit_words", "KitWords", "path_words", "port_words", "proposals", "RAW_DIGITS", "shown", "Stage", "STAGES", "stated_offers", "stated_words", "tile_warning",),
    "working_up": ("no_reason", "Reworked",),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
