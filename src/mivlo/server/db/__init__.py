"""The database: its own cluster, tables, migrations."""
