"""How many cores there are to work with."""

import math
import os
from pathlib import Path

CGROUP = Path("/sys/fs/cgroup")


def cores() -> int:
    """Cores that this process may use: those it may run on, or the share of them that its container has, rounded up;
    fewer where DOPPIO_CORES says so."""
    allowed = min(len(os.sched_getaffinity(0)), _quota(CGROUP))
    return max(1, min(allowed, int(os.environ.get("DOPPIO_CORES") or allowed)))


def _quota(group: Path) -> int:
    """Cores that a control group's limit of processor time comes to, in either edition; many where there is none."""
    for names in (("cpu.max",), ("cpu/cpu.cfs_quota_us", "cpu/cpu.cfs_period_us")):
        try:
            quota, period = " ".join((group / name).read_text() for name in names).split()
            if quota not in ("max", "-1"):
                return max(1, math.ceil(int(quota) / int(period)))
        except (OSError, ValueError):
            continue
    return os.cpu_count() or 1
