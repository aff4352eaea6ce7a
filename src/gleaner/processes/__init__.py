"""Processes that start at once: forked from one that has everything imported."""
