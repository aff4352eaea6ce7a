"""Slow, plain versions written from the formulas. They import nothing of ours."""
