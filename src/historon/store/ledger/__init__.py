"""Versions and all that is told of them in tables, in the SQL that every engine understands."""
