"""Computation only: arrays and frames in, arrays and frames out. No HTTP, no SQL, no clock, no files."""
