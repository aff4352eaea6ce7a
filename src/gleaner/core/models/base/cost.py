"""What a fit takes, before it is started."""

from __future__ import annotations

from dataclasses import dataclass

OPERATIONS_PER_SECOND = 1.5e9
"""Of one core in these loops, measured; a service corrects it by what its own trainings took."""

BASE_BYTES = 350e6
"""A process that has imported everything and done nothing."""

CELL_BYTES = 16.0
"""A cell of the training matrix in both orders."""


@dataclass(frozen=True)
class Cost:
    """Operations of a fit and the bytes it holds beside the training matrix."""

    operations: float
    bytes: float
    parallel: bool = True

    def seconds(self, threads: int) -> float:
        """Seconds on so many threads."""
        return self.operations / OPERATIONS_PER_SECOND / (threads if self.parallel else 1)

    def memory_mb(self, cells: int) -> float:
        """Peak memory of the process, the training matrix included."""
        return (BASE_BYTES + CELL_BYTES * cells + self.bytes) / 1e6
