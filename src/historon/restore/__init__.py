"""Getting back what was collected."""

from historon.restore.writing import Restored, write_version

__all__ = ["Restored", "write_version"]
