"""Use cases; they know the database and the core, and no HTTP."""
