"""The Numba kernels and nothing else: flat arrays and row ranges in, one slice of an output written per range.

All are compiled with `nogil=True, cache=True`. `reassoc` and `contract` let a sum be split over vector lanes and fused
with its product; NaN and infinity keep their meaning, because inputs are checked before a kernel, not in it.
"""

SUM_MATH = {"reassoc", "contract"}
"""Fast-math flags for kernels whose inner loops are sums of products."""
