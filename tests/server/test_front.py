"""The web server with clients that dawdle: nobody else waits for them."""

import contextlib
import socket
import threading
import time
import unittest
import urllib.request

from doppio.site.front import THREADS, Front


def application(environ, start_response):
    body = environ["wsgi.input"].read()
    start_response("200 OK", [("Content-Type", "text/plain")])
    return [f"{len(body)} {environ.get('SCRIPT_NAME')} {environ.get('HTTP_X_FORWARDED_FOR')}".encode()]


class DawdlingClients(unittest.TestCase):
    def setUp(self):
        listening = socket.create_server(("127.0.0.1", 0))
        self.address = listening.getsockname()
        self.front = Front(application, listening, head=1.0, whole=3.0)
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

    def ask(self, headers=None):
        request = urllib.request.Request("http://{}:{}/".format(*self.address), headers=headers or {})
        with urllib.request.urlopen(request, timeout=5) as answer:
            return answer.read().decode()

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
