"""Figures over lists, per user and averaged."""
