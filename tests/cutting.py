"""A line that is cut: connections to a server on loopback that end after so many bytes to it."""

import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass

__all__ = ["CutLine", "cut_line"]


@dataclass
class CutLine:
    """Where the line begins, what it may still carry (None for all), and what it has carried to the server."""

    port: int
    left: int | None = None
    carried: int = 0


@contextmanager
def cut_line(server_port: int) -> Iterator[CutLine]:
    listener = socket.create_server(("127.0.0.1", 0))
    line = CutLine(listener.getsockname()[1])

    def carry(client: socket.socket) -> None:
        with suppress(OSError), client, socket.create_connection(("127.0.0.1", server_port)) as server:
            for side in (client, server):
                side.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            threading.Thread(target=_pump, args=(server, client), daemon=True).start()
            while piece := client.recv(4096):
                if line.left is not None:
                    piece = piece[: line.left]
                    line.left -= len(piece)
                line.carried += len(piece)
                server.sendall(piece)
                if line.left == 0:
                    return

    def serve() -> None:
        with suppress(OSError):
            while True:
                client, _ = listener.accept()
                threading.Thread(target=carry, args=(client,), daemon=True).start()

    threading.Thread(target=serve, daemon=True).start()
    try:
        yield line
    finally:
        listener.close()


def _pump(source: socket.socket, target: socket.socket) -> None:
    with suppress(OSError):
        while piece := source.recv(65536):
            target.sendall(piece)
