"""Gleaner: a service for recommendation engineers. Start at `gleaner.client` or the `gleaner` command."""

__version__ = "0.1.0"
