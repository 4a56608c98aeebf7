"""The web server: takes in requests whole before a thread is given to them, and closes on clients that dawdle."""

import errno
import os
import socket
import threading
import time
from collections import deque
from typing import Any

from waitress.adjustments import Adjustments
from waitress.server import TcpWSGIServer

from doppio.core.company import company
from doppio.site.channel import Channel
from doppio.site.queues import Queues

CLOSED = (errno.EINVAL, errno.EBADF)
# Seconds that a connection is left to a process that has less to do; it may be one that has just died.
LEAVE_IT = 0.25
# Seconds from the first byte of a request until its head and until all of it is there.
HEAD, WHOLE = 10.0, 300.0
SETTINGS = {
    "ident": None,
    "connection_limit": 1000,
    "channel_timeout": 60,
    "cleanup_interval": 1,
    "asyncore_use_poll": True,
    "max_request_header_size": 32 << 10,
    "max_request_body_size": 512 << 20,
    # A slow reader is sent to from here; the thread that made the answer is free at once.
    "outbuf_high_watermark": 256 << 20,
    "clear_untrusted_proxy_headers": True,
}


class Front(TcpWSGIServer):
    """A buffering server on a socket that listens already.

    head, whole : seconds that a client may take for a request's head, and for all of it
    """

    def __init__(
        self, application: Any, listening: socket.socket, *, head: float = HEAD, whole: float = WHOLE
    ) -> None:
        self._head, self._whole = head, whole
        self._left: deque[Channel] = deque()
        about = (listening.family, listening.type, listening.proto, listening.getsockname())
        settings = Adjustments(sockets=[listening], **SETTINGS)
        super().__init__(
            application, {}, _sock=listening, dispatcher=Queues(), adj=settings, sockinfo=about, bind_socket=False
        )

    def run(self) -> None:
        threading.Thread(target=self._accept, name="door", daemon=True).start()
        try:
            while self._map:
                while self._left:
                    self._left.popleft().go_on()
                self.asyncore.loop(self.adj.asyncore_loop_timeout, self.adj.asyncore_use_poll, self._map, 1)
        except (SystemExit, KeyboardInterrupt):
            self.task_dispatcher.shutdown()

    def watch(self, channel: Channel) -> None:
        """Have the thread that looks at connections see to this one."""
        self._left.append(channel)
        self.pull_trigger()

    def readable(self) -> bool:
        # Never looked at beside the connections: of all processes that look, each would be woken for each of them.
        super().readable()
        return False

    def _accept(self) -> None:
        """Take connections in, one after another, while no other process has less to do; of those that wait for one
        the longest waiting is woken."""
        door = socket.socket(fileno=os.dup(self.socket.fileno()))
        door.settimeout(None)
        with door:
            while True:
                company.wait_while_busier(LEAVE_IT)
                try:
                    connection, address = door.accept()
                except OSError as error:
                    if error.errno in CLOSED:
                        return
                    # A process that begins has it not wait for a moment; or there are no more handles.
                    door.setblocking(True)
                    time.sleep(0.01)
                    continue
                try:
                    self._take_in(connection, address)
                except Exception:
                    self.logger.exception("A connection could not be taken in")

    def _take_in(self, connection: socket.socket, address: Any) -> None:
        while len(self.active_channels) >= self.adj.connection_limit:
            time.sleep(0.05)
        self.set_socket_options(connection)
        Channel(self, connection, address, self.adj, map=self._map)

    def maintenance(self, now: float) -> None:
        """Called every second: close on those whose request does not come to its end, and on those that are idle."""
        super().maintenance(now)
        for channel in self.active_channels.values():
            request = channel.request
            if request is not None:
                begun = request.__dict__.setdefault("begun", now)
                if now - begun > (self._whole if request.headers_finished else self._head):
                    channel.will_close = True
