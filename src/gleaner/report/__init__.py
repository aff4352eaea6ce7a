"""Contests as documents: one self-contained page, Markdown, plots and tables. Knows messages, no service, no store."""
