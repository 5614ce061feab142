"""Getting back what was collected."""

from historon.restore.writing import write_version

__all__ = ["write_version"]
