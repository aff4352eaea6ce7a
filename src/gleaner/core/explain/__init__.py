"""Why this item, what this factor, which neighbours."""
