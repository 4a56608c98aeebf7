"""What the launcher installs and starts, and what it says when it cannot."""

import http.cookiejar
import json
import os
import re
import shutil
import signal
import subprocess
import tempfile
import time
import unittest
import urllib.error
import urllib.request
from pathlib import Path
from unittest import mock

from doppio.command import setup
from doppio.command.cluster import Cluster, free_port, wait_until
from doppio.core.errors import DoppioError
from tests.core.corpus import MODELS, ROOT

DOCUMENTS = 8


class Packages(unittest.TestCase):
    def missing(self, lacks, *, root=True, sudo=False, browser=True):
        ran = []
        there = {"chromium", "chromedriver", *(["sudo"] if sudo else [])} - set(lacks)
        with (
            mock.patch.object(setup, "postgres_programs", lambda: None if "postgresql" in lacks else Path("/x")),
            mock.patch.object(setup.shutil, "which", lambda name: f"/bin/{name}" if name in there else None),
            mock.patch.object(setup.os, "geteuid", lambda: 0 if root else 1000),
            mock.patch.object(setup.subprocess, "run", lambda *a, **k: mock.Mock(returncode=0 if sudo else 1)),
            mock.patch.object(setup, "run", lambda command, *a, **k: ran.append(command) or ""),
        ):
            return setup.debian_packages(browser), ran

    def test_nothing_is_installed_where_nothing_is_missing(self):
        self.assertEqual(self.missing(()), ("all there", []))

    def test_root_installs_just_what_is_missing(self):
        said, ran = self.missing(("postgresql", "chromedriver"))
        self.assertEqual(said, "installed postgresql, chromium-driver")
        self.assertEqual(ran[-1][-2:], ["postgresql", "chromium-driver"])
        self.assertEqual(ran[0], ["apt-get", "update"])

    def test_a_user_without_sudo_is_told_the_command(self):
        with self.assertRaisesRegex(DoppioError, r"sudo apt-get install -y --no-install-recommends chromium"):
            self.missing(("chromium", "chromedriver"), root=False)

    def test_a_user_with_sudo_installs_through_it(self):
        _, ran = self.missing(("postgresql",), root=False, sudo=True)
        self.assertEqual(ran[-1][:4], ["sudo", "-n", "apt-get", "install"])

    def test_serving_alone_needs_no_browser(self):
        self.assertEqual(self.missing(("chromium", "chromedriver"), browser=False), ("all there", []))

    def test_a_program_that_fails_is_told_with_the_end_of_its_output(self):
        with self.assertRaisesRegex(DoppioError, r"(?s)trying: .*ended with status 3\n.*the reason"):
            setup.run(["sh", "-c", "echo the reason; exit 3"], "trying")
        with self.assertRaisesRegex(DoppioError, "no-such-program is not installed"):
            setup.run(["no-such-program"], "trying")


class Ports(unittest.TestCase):
    def test_a_port_in_use_is_not_taken(self):
        import socket

        with socket.socket() as busy:
            busy.bind(("127.0.0.1", 0))
            busy.listen()
            self.assertNotEqual(free_port(busy.getsockname()[1]), busy.getsockname()[1])

    def test_waiting_ends(self):
        with self.assertRaisesRegex(DoppioError, "the thing is not ready after"):
            wait_until(lambda: False, 0.2, "the thing")


class Demo(unittest.TestCase):
    """`./doppio demo` as a person runs it, in a folder of its own; only the model is lent to it."""

    def setUp(self):
        place = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
        self.addCleanup(place.cleanup)
        self.var = Path(place.name)
        (self.var / "models").symlink_to(MODELS, target_is_directory=True)
        (self.var / "weights.stamp").write_text((MODELS.parent / "weights.stamp").read_text())
        self.environment = {name: value for name, value in os.environ.items() if name != "DOPPIO_DATABASE"}
        self.environment["DOPPIO_VAR"] = str(self.var)
        self.environment["DOPPIO_DEMO"] = str(self.part_of_the_demo())
        self.addCleanup(lambda: Cluster(self.var).remove())

    def part_of_the_demo(self):
        """Some documents with their questions: the whole demo is loaded by the tests of the interface."""
        whole, part = ROOT / "demo", self.var / "demo"
        names = sorted(p.relative_to(whole / "documents").as_posix() for p in (whole / "documents").rglob("*.md"))
        for name in names[:DOCUMENTS]:
            (part / "documents" / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(whole / "documents" / name, part / "documents" / name)
        shutil.copytree(whole / "recipes", part / "recipes")
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
        begun = time.monotonic()

        def ready():
            self.assertIsNone(process.poll(), (self.var / "out.txt").read_text())
            return "Sign in, once" in (self.var / "out.txt").read_text()

        wait_until(ready, 420, "the demo")
        said = (self.var / "out.txt").read_text()
        return process, said, time.monotonic() - begun

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
        process, said, _ = self.start("demo")
        address = re.search(r"http://127.0.0.1:\d+", said)[0]
        link = re.search(r"http://\S+/enter/\S+", said)[0]
        for step in ("Debian packages", "model weights", "interface", "database", "tables", "demo data"):
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

        process, said, seconds = self.start("demo")
        self.assertIn("demo data ... there", said)
        self.assertLess(seconds, 30)
        self.assertNotIn(link, said)
        self.stop(process)
