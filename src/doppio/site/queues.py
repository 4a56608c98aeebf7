"""Requests that wait for a thread: questions of assistants in a queue of their own, all others in another.

Python runs one thread of a process at a time. Of many that answer at once each would wait for all others at every
step, with a connection to the database that has grown cold; so there are as many for questions as may be answered at
once, and who waits for a turn waits without a thread. All that is not a question has threads of its own, and neither
is held up by the other.
"""

import re
import time
from typing import Any

from waitress.server import ThreadedTaskDispatcher

from doppio.core.company import company
from doppio.core.cores import cores
from doppio.jobs.patience import COME_BACK, LONGEST_WAIT, WAITED, Usual, too_long
from doppio.site.last_idle import LastIdleFirst

# More than all that may work or wait for a turn (see `jobs.turns`).
THREADS = 56
QUESTION = re.compile(r"/serve/[^/]+/search/?")
# Who says how long they would wait is told so at once when it is longer, which a view does that has read it all.
LIMIT, MOST_LOOKED_AT = b'"within_ms"', 64 << 10
# They hold no thread, but what they ask shall not be old when it is answered.
MOST_WAITING = 64


class Threads(ThreadedTaskDispatcher):
    """A queue with so many threads, of which the one that worked last is woken first."""

    def __init__(self, count: int) -> None:
        super().__init__()
        self.queue_cv = LastIdleFirst(self.lock)
        self.set_thread_count(count)

    def add_task(self, task: Any) -> None:
        # That some wait is no warning, and to write it down for each takes time that they have not.
        with self.lock:
            self.queue.append(task)
            self.queue_cv.notify()


class Waiting:
    """A connection in the queue of questions."""

    def __init__(self, channel: Any, usual: Usual) -> None:
        self._channel, self._usual = channel, usual
        self._since = time.monotonic()
        company.comes()

    def service(self) -> None:
        begun = time.monotonic()
        self._channel.requests[0].told = {WAITED: begun - self._since}
        try:
            self._channel.service()
        finally:
            self._usual.took(time.monotonic() - begun)
            company.goes()

    def cancel(self) -> None:
        self._channel.cancel()
        company.goes()


class Queues:
    """Gives connections whose request is there to threads, by what is asked."""

    def __init__(self) -> None:
        self._at_once = cores()
        self._questions, self._others = Threads(self._at_once), Threads(THREADS)
        self._usual = Usual()

    def add_task(self, channel: Any) -> None:
        """Have the first request of a connection answered."""
        request = channel.requests[0]
        if not _is_question(request):
            self._others.add_task(channel)
            return
        waiting = len(self._questions.queue)
        expected = self._usual.until_due(waiting, self._at_once)
        if too_long(expected, waiting, MOST_WAITING, LONGEST_WAIT):
            request.told = {COME_BACK: expected}
            self._others.add_task(channel)
        else:
            self._questions.add_task(Waiting(channel, self._usual))

    def shutdown(self, cancel_pending: bool = True, timeout: float = 5) -> bool:
        """End all threads; what waits is closed."""
        ended = [threads.shutdown(cancel_pending, timeout) for threads in (self._questions, self._others)]
        return any(ended)


def _is_question(request: Any) -> bool:
    if request.error or request.command != "POST" or not QUESTION.fullmatch(request.path):
        return False
    body = request.get_body_stream()
    head = body.read(MOST_LOOKED_AT)
    body.seek(0)
    return LIMIT not in head
