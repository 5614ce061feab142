"""What will go wrong, found before it does."""

from historon.doctor.checks import Finding, examine

__all__ = ["Finding", "examine"]
