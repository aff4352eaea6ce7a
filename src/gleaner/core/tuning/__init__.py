"""Search for parameters: what may vary, and what to try next."""
