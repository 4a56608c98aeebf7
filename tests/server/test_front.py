"""The web server with clients that dawdle: nobody else waits for them."""

import contextlib
import errno
import http.client
import socket
import struct
import threading
import time
import unittest
import urllib.request
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from unittest import mock

from doppio.core.company import Company
from doppio.core.cores import cores
from doppio.jobs.patience import COME_BACK, WAITED
from doppio.site.front import Front
from doppio.site.last_idle import LastIdleFirst
from doppio.site.queues import MOST_WAITING, THREADS


def application(environ, start_response):
    body = environ["wsgi.input"].read()
    start_response("200 OK", [("Content-Type", "text/plain")])
    return [f"{len(body)} {environ.get('SCRIPT_NAME')} {environ.get('HTTP_X_FORWARDED_FOR')}".encode()]


class Served(unittest.TestCase):
    def serve(self, application, before=lambda address: None, **told):
        self.listening = socket.create_server(("127.0.0.1", 0), backlog=128)
        self.address = self.listening.getsockname()
        before(self.address)
        self.front = Front(application, self.listening, **told)
        running = threading.Thread(target=self.run_front)
        running.start()
        self.addCleanup(running.join)
        self.addCleanup(self.stop)

    def run_front(self):
        with contextlib.suppress(OSError):
            self.front.run()

    def stop(self):
        # Whoever waits in it for connections hears of it.
        self.listening.shutdown(socket.SHUT_RDWR)
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


class Connections(Served):
    """What is read and sent in parts, kept, or cut off; a connection on which nothing waits is nobody else's work."""

    def setUp(self):
        self.serve(self.application)

    def application(self, environ, start_response):
        body = environ["wsgi.input"].read()
        size = int(environ["QUERY_STRING"] or 0)
        headers = [("Content-Type", "text/plain"), ("Content-Length", str(max(size, len(body))))]
        start_response("200 OK", headers)
        return [body or b"x" * size]

    def connect(self):
        client = http.client.HTTPConnection(*self.address, timeout=20)
        self.addCleanup(client.close)
        return client

    def said(self, client, body=None, path="/"):
        client.request("POST", path, body)
        return client.getresponse().read()

    def test_one_that_is_kept_is_answered_again_and_again(self):
        client = self.connect()
        for number in range(20):
            self.assertEqual(self.said(client, b"%d" % number), b"%d" % number)
        self.assertEqual(len(self.front.active_channels), 1)

    def test_two_requests_that_come_at_once_are_answered_in_their_order(self):
        with socket.create_connection(self.address, timeout=20) as client:
            client.sendall(b"".join(
                b"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 1\r\n%s\r\n%d" % (last, number)
                for number, last in enumerate((b"", b"", b"Connection: close\r\n"))
            ))  # fmt: skip
            answers = b"".join(iter(lambda: client.recv(4096), b""))
        self.assertEqual([part[-1:] for part in answers.split(b"HTTP/1.1 200 OK")[1:]], [b"0", b"1", b"2"])

    def test_what_is_sent_in_parts_arrives_whole(self):
        sent = bytes(range(256)) * 4096
        with socket.create_connection(self.address, timeout=20) as client:
            client.sendall(b"POST / HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Le")
            time.sleep(0.05)
            client.sendall(b"ngth: %d\r\n\r\n" % len(sent))
            for first in range(0, len(sent), 300_000):
                client.sendall(sent[first : first + 300_000])
                time.sleep(0.02)
            answer = b"".join(iter(lambda: client.recv(1 << 16), b""))
        self.assertEqual(answer.split(b"\r\n\r\n", 1)[1], sent)

    def test_a_long_answer_to_a_slow_reader_holds_no_thread_and_comes_whole(self):
        size = 8 << 20
        readers = []
        for _ in range(THREADS + 4):
            client = socket.create_connection(self.address, timeout=20)
            self.addCleanup(client.close)
            client.sendall(b"GET /?%d HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n" % size)
            readers.append(client)
        self.assertEqual(self.said(self.connect(), b"quick"), b"quick")
        answer = b"".join(iter(lambda: readers[0].recv(1 << 20), b""))
        self.assertEqual(len(answer.split(b"\r\n\r\n", 1)[1]), size)

    def test_clients_that_leave_take_nothing_along(self):
        for text in (b"", b"GET / HT", b"GET /?9000000 HTTP/1.1\r\nHost: x\r\n\r\n", b"\x16\x03nonsense\r\n\r\n"):
            for _ in range(8):
                client = socket.create_connection(self.address, timeout=20)
                client.sendall(text)
                client.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
                client.close()
        self.assertEqual(self.said(self.connect(), b"still there"), b"still there")
        end = time.monotonic() + 10
        while len(self.front.active_channels) > 1 and time.monotonic() < end:
            time.sleep(0.02)
        self.assertEqual(len(self.front.active_channels), 1)

    def test_one_that_cannot_be_taken_in_keeps_no_other_out(self):
        for error in (OSError(errno.EINVAL, "gone"), RuntimeError("of ours")):
            with (
                mock.patch.object(self.front, "set_socket_options", side_effect=error),
                self.assertLogs("waitress"),
                self.assertRaises((OSError, http.client.HTTPException)),
            ):
                self.said(self.connect())
        self.assertEqual(self.said(self.connect(), b"well"), b"well")

    def test_a_process_that_is_busier_leaves_the_next_to_others_for_a_moment(self):
        company = Company()
        company.take(1)
        company.take(0)
        self.enterContext(mock.patch("doppio.site.front.company", company))
        self.enterContext(mock.patch("doppio.site.front.LEAVE_IT", 1.5))
        # It waits at the door already, and as it was.
        self.ask()
        self.ask()
        with company.one_more():
            # It waits to take this one in already; the one after it is left to another, which does not come.
            self.ask()
            begun = time.monotonic()
            self.ask()
            self.assertGreater(time.monotonic() - begun, 0.5)
        begun = time.monotonic()
        for _ in range(5):
            self.ask()
        self.assertLess(time.monotonic() - begun, 1.5)


class Unwatched(Served):
    def test_one_that_is_closed_after_its_answer_is_never_looked_at(self):
        clients = []

        def knock(address):
            for _ in range(20):
                clients.append(socket.create_connection(address, timeout=20))
                clients[-1].sendall(b"GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n")

        with mock.patch.object(Front, "watch") as watched:
            self.serve(application, before=knock)
            for client in clients:
                with client:
                    self.assertTrue(b"".join(iter(partial(client.recv, 4096), b"")).endswith(b"\r\n\r\n0  None"))
        watched.assert_not_called()


class Questions(Served):
    """Questions of assistants have threads of their own, and wait without one."""

    def setUp(self):
        self.open, self.most, self.at_work, self.told = threading.Event(), 0, 0, []
        self.addCleanup(self.open.set)
        self.lock = threading.Lock()
        self.serve(self.application)

    def application(self, environ, start_response):
        with self.lock:
            self.told.append({name: environ.get(name) for name in (WAITED, COME_BACK)})
        if environ["PATH_INFO"].endswith("search") and environ.get(COME_BACK) is None:
            with self.lock:
                self.at_work += 1
                self.most = max(self.most, self.at_work)
            self.open.wait(20)
            with self.lock:
                self.at_work -= 1
        start_response("200 OK", [("Content-Type", "text/plain")])
        return [environ["wsgi.input"].read()]

    def ask(self, path="serve/desk/search", body=b"{}"):
        with urllib.request.urlopen("http://{}:{}/{}".format(*self.address, path), body, timeout=20) as answer:
            return answer.read()

    def waiting(self, asked, count):
        end = time.monotonic() + 10
        while asked() < count and time.monotonic() < end:
            time.sleep(0.005)
        self.assertEqual(asked(), count)

    def test_as_many_as_there_are_cores_are_answered_at_once_and_nothing_else_waits_for_them(self):
        with ThreadPoolExecutor(12) as askers:
            found = [askers.submit(self.ask) for _ in range(12)]
            self.waiting(lambda: len(self.front.task_dispatcher._questions.queue), 12 - cores())
            self.assertEqual([self.ask("health", b"here"), self.ask("serve/desk/answer", b"too")], [b"here", b"too"])
            time.sleep(0.1)
            self.open.set()
            self.assertEqual([one.result() for one in found], [b"{}"] * 12)
        self.assertEqual(self.most, cores())
        waited = [one[WAITED] for one in self.told]
        self.assertEqual(waited.count(None), 2)
        self.assertEqual(sum(seconds is not None and seconds > 0.09 for seconds in waited), 12 - cores())

    def test_who_says_how_long_they_wait_is_read_at_once(self):
        body = b'{"question": "?", "within_ms": 5}'
        with ThreadPoolExecutor(12) as askers:
            found = [askers.submit(self.ask, body=body) for _ in range(12)]
            self.waiting(lambda: self.at_work, 12)
            self.open.set()
            self.assertEqual([one.result() for one in found], [body] * 12)
        self.assertEqual({one[WAITED] for one in self.told}, {None})

    def test_who_would_wait_for_long_is_told_when_to_come_back(self):
        queues = self.front.task_dispatcher
        queues._usual.took(0.4 * cores())
        with ThreadPoolExecutor(MOST_WAITING + cores()) as askers:
            found = [askers.submit(self.ask) for _ in range(MOST_WAITING + cores())]
            self.waiting(lambda: len(queues._questions.queue), MOST_WAITING)
            # This one too many is not a second late, but all of those before it.
            self.assertEqual(self.ask(body=b"late"), b"late")
            self.assertAlmostEqual(self.told[-1][COME_BACK], 0.4 * (MOST_WAITING + 1))
            self.open.set()
            self.assertEqual({one.result() for one in found}, {b"{}"})
        # Where turns are short so many are gone at once, and nobody is sent away.
        queues._usual._seconds = 0.001
        self.assertEqual(self.ask(), b"{}")
        self.assertIsNone(self.told[-1][COME_BACK])


if __name__ == "__main__":
    unittest.main()
