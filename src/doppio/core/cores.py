"""How many cores there are to work with."""

import os


def cores() -> int:
    """Cores that this process may use; fewer where DOPPIO_CORES says so."""
    allowed = len(os.sched_getaffinity(0))
    return max(1, min(allowed, int(os.environ.get("DOPPIO_CORES") or allowed)))
