"""Pages and tables for people who are not at the terminal."""

from historon.report.pages import difference_page

__all__ = ["difference_page"]
