"""The web server with clients that dawdle: nobody else waits for them."""

import contextlib
import socket
import threading
import time
import unittest
import urllib.request
from concurrent.futures import ThreadPoolExecutor

from doppio.site.front import THREADS, Front
from doppio.site.last_idle import LastIdleFirst


def application(environ, start_response):
    body = environ["wsgi.input"].read()
    start_response("200 OK", [("Content-Type", "text/plain")])
    return [f"{len(body)} {environ.get('SCRIPT_NAME')} {environ.get('HTTP_X_FORWARDED_FOR')}".encode()]


class Served(unittest.TestCase):
    def serve(self, application, **told):
        listening = socket.create_server(("127.0.0.1", 0), backlog=128)
        self.address = listening.getsockname()
        self.front = Front(application, listening, **told)
        running = threading.Thread(target=self.run_front)
        running.start()
        self.addCleanup(running.join)
        self.addCleanup(self.stop)

    def run_front(self):
        with contextlib.suppress(OSError):
            self.front.run()

    def stop(self):
        self.front.asyncore.close_all(self.front._map)
        self.front.task_dispatcher.shutdown()

    def ask(self, headers=None, path=""):
        request = urllib.request.Request("http://{}:{}/{}".format(*self.address, path), headers=headers or {})
        with urllib.request.urlopen(request, timeout=20) as answer:
            return answer.read().decode()


class DawdlingClients(Served):
    def setUp(self):
        self.serve(application, head=1.0, whole=3.0)

    def half(self, text):
        client = socket.create_connection(self.address)
        self.addCleanup(client.close)
        client.sendall(text)
        client.settimeout(10)
        return client

    def test_half_requests_keep_nobody_from_being_answered_and_are_closed(self):
        clients = [self.half(b"GET / HTTP/1.1\r\nHost: x\r\n") for _ in range(4 * THREADS)]
        clients += [self.half(b"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 9\r\n\r\nhalf") for _ in range(THREADS)]
        self.assertTrue(self.ask().startswith("0 "))
        begun = time.monotonic()
        self.assertEqual([client.recv(100) for client in clients], [b""] * len(clients))
        # They were not closed at once: a slow line has some time.
        self.assertGreater(time.monotonic() - begun, 0.5)

    def test_a_byte_now_and_then_does_not_keep_one_open(self):
        client = self.half(b"GET / HTTP/1.1\r\n")
        with self.assertRaises(OSError):
            for _ in range(100):
                client.sendall(b"X: y\r\n")
                time.sleep(0.1)

    def test_headers_that_a_proxy_would_set_are_nobodys_word(self):
        said = self.ask({"Script-Name": "/health", "X-Forwarded-For": "10.0.0.1"})
        self.assertEqual(said, "0  None")


class IdleThreads(Served):
    """The one that worked last works next; all work where all are asked."""

    def setUp(self):
        self.together = threading.Barrier(THREADS)
        self.serve(self.application)

    def application(self, environ, start_response):
        if environ["PATH_INFO"] == "/together":
            self.together.wait(20)
        start_response("200 OK", [("Content-Type", "text/plain")])
        return [str(threading.get_ident()).encode()]

    def test_questions_one_after_another_meet_threads_that_are_warm(self):
        # On busy cores one is asked the next now and then before it is idle again; in turn it would be forty.
        self.assertLess(len({self.ask() for _ in range(40)}), 20)

    def test_as_many_as_there_are_threads_work_at_the_same_time_and_after_it(self):
        for _ in range(2):
            with ThreadPoolExecutor(THREADS) as askers:
                found = set(askers.map(lambda _: self.ask(path="together"), range(THREADS)))
            self.assertEqual(len(found), THREADS)

    def test_who_waits_too_long_goes_and_takes_no_wake_up_along(self):
        lock = threading.Lock()
        idle = LastIdleFirst(lock)
        with lock:
            self.assertFalse(idle.wait(0.01))
        woken = []

        def wait(name):
            with lock:
                began.release()
                self.assertTrue(idle.wait(20))
                woken.append(name)
                began.release()

        began = threading.Semaphore(0)
        threads = [threading.Thread(target=wait, args=(name,)) for name in "abc"]
        for thread in threads:
            thread.start()
            began.acquire()
        for _ in threads[:2]:
            with lock:
                idle.notify()
            began.acquire()
        self.assertEqual(woken, ["c", "b"])
        with lock:
            idle.notify_all()
            idle.notify()
        for thread in threads:
            thread.join()
        self.assertEqual(woken, ["c", "b", "a"])


if __name__ == "__main__":
    unittest.main()
