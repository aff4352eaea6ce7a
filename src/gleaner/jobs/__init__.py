"""What a worker runs."""
