"""Getting back what was collected."""

from historon.restore.writing import choose_parts, write_version

__all__ = ["choose_parts", "write_version"]
