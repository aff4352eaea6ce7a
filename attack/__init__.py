"""Attacks on a Gleaner of its own: generated calls, mutated files, hostile texts, kills under load, and a watch over
memory. Run by bin/attack; nothing of it is part of the product."""
