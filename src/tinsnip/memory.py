"""How much memory a process may still take."""

import resource
from pathlib import Path

import psutil

__all__ = ["free_memory"]

_GROUPS = (
    ("/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory.current"),
    ("/sys/fs/cgroup/memory/memory.limit_in_bytes", "/sys/fs/cgroup/memory/memory.usage_in_bytes"),
)
"""Where the system says what the group of a process, such as a container, may take, and takes."""


def free_memory() -> int:
    """Bytes that this process may still take without others being put to the disk: the least that any limit leaves."""
    left = [psutil.virtual_memory().available]
    for limit, taken in _GROUPS:
        try:
            left.append(int(Path(limit).read_text("ascii")) - int(Path(taken).read_text("ascii")))
        except (OSError, ValueError):  # no such group, or one without a limit
            continue
    most = resource.getrlimit(resource.RLIMIT_AS)[0]
    if most != resource.RLIM_INFINITY:
        left.append(most - psutil.Process().memory_info().vms)
    return max(0, min(left))
