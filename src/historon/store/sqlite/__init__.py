"""The engine of a store in a folder."""
