"""Peak memory of a stretch of work."""

from __future__ import annotations

from pathlib import Path

STATUS = Path("/proc/self/status")
RESET = Path("/proc/self/clear_refs")
RESET_PEAK = "5"


class PeakMemory:
    """Largest resident size since this was made, as the kernel keeps it (Linux)."""

    def __init__(self) -> None:
        RESET.write_text(RESET_PEAK)

    def megabytes(self) -> float:
        """The peak so far, in MB."""
        line = next(line for line in STATUS.read_text().splitlines() if line.startswith("VmHWM"))
        return int(line.split()[1]) / 1024
