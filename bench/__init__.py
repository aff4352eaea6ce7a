"""Benchmarks and their peers, run by bin/bench."""
