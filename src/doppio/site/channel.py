"""A connection, which the thread that sees to connections knows only where it has to wait for something."""

import socket
from contextlib import suppress
from typing import Any

from waitress.channel import HTTPChannel
from waitress.task import WSGITask
from waitress.wasyncore import write


class Task(WSGITask):
    """A request that tells the view how long it waited for a thread."""

    def get_environment(self) -> dict[str, Any]:
        environ: dict[str, Any] = super().get_environment()
        environ.update(getattr(self.request, "told", {}))
        return environ


class _Server:
    """The server as a connection sees it: woken for what has to be waited for, and not for what is done."""

    def __init__(self, server: Any, channel: "Channel") -> None:
        self._server, self._channel = server, channel

    def __getattr__(self, name: str) -> Any:
        return getattr(self._server, name)

    def add_task(self, channel: "Channel") -> None:
        channel.handed_on = True
        self._server.add_task(channel)

    def pull_trigger(self) -> None:
        self._channel.see_to_it()


class Channel(HTTPChannel):
    """A connection from which is read at once what came with it.

    handed_on : whether it was ever given to a thread that answers
    watched : whether it is looked at by the thread that looks at all that wait; from then on it alone closes it

    Notes
    -----
    Whoever accepts it reads the request, a thread answers and closes it: where nothing has to be waited for, nobody
    else of this process is woken, each of whom would first wait for Python's turn. A request that is not all there,
    an answer that is not read as fast as it comes, and a connection that is kept are watched.
    """

    task_class = Task
    handed_on = watched = False

    def __init__(self, server: Any, sock: socket.socket, *about: Any, **named: Any) -> None:
        super().__init__(server, sock, *about, **named)
        self._front = server
        self.server = _Server(server, self)
        with suppress(OSError):
            sock.recv(1, socket.MSG_PEEK)
            self.handle_read()
        if not self.handed_on:
            self.see_to_it()

    def add_channel(self, map: Any = None) -> None:
        if self.watched:
            super().add_channel(map)

    def handle_close(self) -> None:
        super().handle_close()
        # No longer a circle of two that only a search for garbage finds.
        self.server = self._front

    def see_to_it(self) -> None:
        """Have done what is left to do: nothing, to close, or what has to be waited for."""
        if not self.connected:
            return
        if not self.watched and self.close_when_flushed and not self.total_outbufs_len:
            self.handle_close()
        else:
            self.watched = True
            self._front.watch(self)

    def go_on(self) -> None:
        """Watch it from now on; what can be done is done now, and not after all have been looked at once more."""
        if self.connected:
            self.add_channel(self._map)
            if self.writable():
                write(self)
