"""Versions and all their records in tables, in the SQL that every engine understands."""
