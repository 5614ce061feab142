"""A web server that answers every question with whatever there is to give."""

from collections.abc import Callable
from pathlib import Path

from historon.standins.web import Reply, Request, WebServer

__all__ = ["ContentServer"]


class ContentServer(WebServer):
    """Answers with `content`, asked for each time."""

    def __init__(self, name: str, folder: Path, content: Callable[[], bytes]) -> None:
        super().__init__(name, folder)
        self._content = content

    def answer(self, request: Request) -> Reply:
        """See WebServer."""
        return Reply(self._content())
