"""Historon collects configuration exports, keeps every version, and says what changed."""

__all__ = ["__version__"]

__version__ = "0.1.0"
