"""Where bytes come from and commands go to; discovery; what is wrong with a port."""

from common_bench.offers import names_of, offering

OFFERS = {
    "address": (
        "Address",
        "read_address",
        "SPEEDS",
    ),
    "causes": ("trouble",),
    "discovery": (
        "all_notices",
        "notices",
        "plugged_in",
        "ports_folder",
        "what_is_wrong",
    ),
    "file_link": ("tape_text",),
    "link": ("Link",),
    "opening": (
        "open_link",
        "pause_before_retry",
    ),
    "secrets": ("Secrets",),
}

__all__ = names_of(OFFERS)
__getattr__ = offering(__name__, OFFERS)
