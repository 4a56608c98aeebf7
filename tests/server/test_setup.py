"""A start as a person makes it, from the first one to the next."""

import http.cookiejar
import json
import os
import re
import shutil
import signal
import subprocess
import tempfile
import unittest
import urllib.error
import urllib.request
from pathlib import Path

from doppio.command.supervisor import answers
from doppio.launch.cluster import Cluster, free_port, wait_until
from doppio.launch.errors import LaunchError
from tests.core.corpus import MODELS, ROOT
from tests.server.test_cluster import remove

DOCUMENTS = 8


def children(parent):
    """Processes of a parent that are not at their end, by name."""
    listed = subprocess.run(["ps", "-o", "pid=,stat=,comm=", "--ppid", str(parent)], capture_output=True, text=True)
    rows = [line.split(None, 2) for line in listed.stdout.splitlines()]
    return {
        name: int(pid) for pid, state, name in rows if state[0] != "Z" and name not in ("sh", "python", "python3")
    }


def alive(process):
    state = Path(f"/proc/{process}/stat")
    return state.exists() and state.read_text().rsplit(")", 1)[1].split()[0] != "Z"


class Ports(unittest.TestCase):
    def test_a_port_in_use_is_not_taken(self):
        import socket

        with socket.socket() as busy:
            busy.bind(("127.0.0.1", 0))
            busy.listen()
            self.assertNotEqual(free_port(busy.getsockname()[1]), busy.getsockname()[1])

    def test_waiting_ends(self):
        with self.assertRaisesRegex(LaunchError, "the thing is not ready after"):
            wait_until(lambda: False, 0.2, "the thing")


class Demo(unittest.TestCase):
    """`./doppio demo` as a person runs it, in a folder of its own; only the model is lent to it."""

    def setUp(self):
        place = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(place.cleanup)
        self.var = Path(place.name)
        (self.var / "models").symlink_to(MODELS, target_is_directory=True)
        self.environment = {name: value for name, value in os.environ.items() if name != "DOPPIO_DATABASE"}
        self.environment["DOPPIO_VAR"] = str(self.var)
        self.environment["DOPPIO_DEMO"] = str(self.part_of_the_demo())
        self.addCleanup(remove, Cluster(self.var))

    def part_of_the_demo(self):
        """Some documents with their questions: the whole demo is loaded by the tests of the interface."""
        whole, part = ROOT / "demo", self.var / "demo"
        names = sorted(p.relative_to(whole / "documents").as_posix() for p in (whole / "documents").rglob("*.md"))
        for name in names[:DOCUMENTS]:
            (part / "documents" / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(whole / "documents" / name, part / "documents" / name)
        (part / "recipes").mkdir()
        for name in ("sparse-alone", "two-branch-1"):
            shutil.copy(whole / "recipes" / f"{name}.json", part / "recipes")
        lines = (whole / "questions.jsonl").read_text().splitlines()
        held = [
            line
            for line in lines
            if {a["document"] for a in json.loads(line).get("answers", [])} <= set(names[:DOCUMENTS])
        ]
        (part / "questions.jsonl").write_text("\n".join(held[:10]))
        return part

    def start(self, *arguments):
        out = (self.var / "out.txt").open("w+")
        process = subprocess.Popen(["./doppio", *arguments], cwd=ROOT, env=self.environment, stdout=out, stderr=out)
        self.addCleanup(process.kill)

        def ready():
            self.assertIsNone(process.poll(), (self.var / "out.txt").read_text())
            return "Sign in, once" in (self.var / "out.txt").read_text()

        wait_until(ready, 420, "the demo")
        said = (self.var / "out.txt").read_text()
        return process, said

    def stop(self, process):
        process.send_signal(signal.SIGINT)
        self.assertEqual(process.wait(30), 130)

    def sign_in(self, link):
        jar = http.cookiejar.CookieJar()
        browser = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(jar))
        page = browser.open(link).read().decode()
        token = re.search(r'name="csrfmiddlewaretoken" value="([^"]+)"', page)[1]
        browser.open(link, data=f"csrfmiddlewaretoken={token}".encode())
        return browser

    def test_it_starts_signs_in_stops_and_starts_again_at_once(self):
        process, said = self.start("demo")
        address = re.search(r"http://127.0.0.1:\d+", said)[0]
        link = re.search(r"http://\S+/enter/\S+", said)[0]
        steps = ("interface", "database files", "first vectors", "database", "tables", "demo data", "recipe in force")
        for step in steps:
            self.assertRegex(said, rf"{step}[^\n]*")
        with self.assertRaises(urllib.error.HTTPError) as refused:
            urllib.request.urlopen(f"{address}/api/workspaces")
        self.assertEqual(refused.exception.code, 401)
        browser = self.sign_in(link)
        workspaces = json.load(browser.open(f"{address}/api/workspaces"))
        self.assertEqual(workspaces[0]["documents"], DOCUMENTS)
        with self.assertRaises(urllib.error.HTTPError):
            self.sign_in(link)
        self.assertIn(b'<div id="root">', browser.open(address).read())
        self.stop(process)
        with self.assertRaises(urllib.error.URLError):
            urllib.request.urlopen(f"{address}/health")
        self.assertFalse((Cluster(self.var).data / "postmaster.pid").exists())

        process, said = self.start("demo")
        self.assertIn("demo data ... there", said)
        self.assertNotIn(link, said)
        self.survives_kills(process, re.search(r"http://127.0.0.1:\d+", said)[0])

    def survives_kills(self, process, address):
        second = subprocess.run(
            ["./doppio", "serve"], cwd=ROOT, env=self.environment, capture_output=True, text=True, timeout=60
        )
        self.assertEqual(second.returncode, 2)
        self.assertRegex(second.stderr, rf"runs already in .* \(process {process.pid}\): {address}")
        first = children(process.pid)
        for name in ("web server", "job worker", "postgres"):
            before = children(process.pid)[name]
            os.kill(before, signal.SIGKILL)
            wait_until(lambda name=name, before=before: children(process.pid).get(name, before) != before, 30, name)
            wait_until(lambda: answers(address), 30, f"the service after the end of the {name}")
        # A database that is new to it has the worker started again as well.
        wait_until(lambda: len(children(process.pid)) >= 3, 30, "all of them")
        self.assertFalse(set(first.values()) & set(children(process.pid).values()))
        orphans = children(process.pid).values()
        process.kill()
        wait_until(lambda: not any(alive(orphan) for orphan in orphans), 30, "the end of all children")
