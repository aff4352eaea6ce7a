"""The Saltmarsh Seed Exchange: a made-up world with a known truth, and the full example on it."""
