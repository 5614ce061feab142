"""Reaching sources."""

from historon.collect.judging import Judged, judge

__all__ = ["Judged", "judge"]
