"""How near two computations of the same figure come, and why no nearer. A test that allows more says why beside it."""

EXACT = 1e-9
"""Both in 64 bits; a sum in another order differs in its last digits."""

KEPT = 1e-6
"""A figure that is kept or sent in 32 bits, six or seven digits, beside the same in 64."""

SINGLE = 1e-5
"""One product or average of 32-bit numbers, summed in another order."""

SUMMED = 1e-4
"""Some dozens of 32-bit products added up, in the order of a compiled loop and in that of a matrix product."""

SOLVED = 1e-3
"""The solution of small linear systems in 32 bits, whose condition takes three or four more digits."""
