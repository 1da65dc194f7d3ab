"""Long work in a process of its own, through a job queue in the database."""
