"""The job's rules and all audio computation: no web, no database."""
