"""Interactions as matrices: id maps, profile, preparation and splits."""
