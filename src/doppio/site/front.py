"""The web server: takes in requests whole before a thread is given to them, and closes on clients that dawdle."""

import socket
from typing import Any

from waitress.adjustments import Adjustments
from waitress.server import TcpWSGIServer, ThreadedTaskDispatcher

from doppio.site.last_idle import LastIdleFirst

# Seconds from the first byte of a request until its head and until all of it is there.
HEAD, WHOLE = 10.0, 300.0
# More than all that may work or wait for a turn (see `jobs.turns` and `serving.asking`).
THREADS = 56
SETTINGS = {
    "threads": THREADS,
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
        dispatcher = ThreadedTaskDispatcher()
        dispatcher.queue_cv = LastIdleFirst(dispatcher.lock)
        dispatcher.set_thread_count(THREADS)
        about = (listening.family, listening.type, listening.proto, listening.getsockname())
        settings = Adjustments(sockets=[listening], **SETTINGS)
        super().__init__(
            application, {}, _sock=listening, dispatcher=dispatcher, adj=settings, sockinfo=about, bind_socket=False
        )

    def maintenance(self, now: float) -> None:
        """Called every second: close on those whose request does not come to its end, and on those that are idle."""
        super().maintenance(now)
        for channel in self.active_channels.values():
            request = channel.request
            if request is not None:
                begun = request.__dict__.setdefault("begun", now)
                if now - begun > (self._whole if request.headers_finished else self._head):
                    channel.will_close = True
