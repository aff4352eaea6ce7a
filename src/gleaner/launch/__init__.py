"""Starting and stopping the three processes: PostgreSQL, worker, web service."""
