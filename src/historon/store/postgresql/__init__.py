"""The engine of a store in a PostgreSQL database, for estates that several machines serve."""
