"""The server: HTTP edge, use cases, database, jobs, live monitor; everything audible comes from the core."""
