"""From scores to lists."""
