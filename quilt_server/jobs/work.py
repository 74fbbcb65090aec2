"""The kinds of job. Each runs in a process of its own and writes its result in one transaction."""

from __future__ import annotations

from .baking import run_bake
from .deliver import run_deliver
from .gather import run_channel, run_import, run_weld
from .mend import run_keep, run_mend, run_settings, run_twins
from .packing import run_explain, run_pack
from .proving import run_bleed
from .replacing import run_compare, run_replace
from .shapes import run_alike, run_stack

KINDS = {
    "import": run_import, "channel": run_channel, "weld": run_weld, "pack": run_pack, "explain": run_explain, "mend": run_mend,
    "settings": run_settings, "objects": run_settings, "keep": run_keep, "twins": run_twins, "alike": run_alike, "stack": run_stack, "compare": run_compare, "replace": run_replace, "bleed": run_bleed, "bake": run_bake, "deliver": run_deliver,
}  # fmt: skip
