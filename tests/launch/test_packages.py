"""Packages of Python and of the interface: installed when a lock file has changed, and only then."""

import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from doppio.launch import node, places, python
from doppio.launch.errors import LaunchError
from tests.launch.programs import calls, only, stand_in


class Folder(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.programs = self.folder / "bin"
        self.notes = []


class Interface(Folder):
    def setUp(self):
        super().setUp()
        self.web = self.folder / "web"
        for name in ("src/main.tsx", "node_modules/x", "dist/x", "index.html", "package-lock.json", "vite.config.ts"):
            (self.web / name).parent.mkdir(parents=True, exist_ok=True)
            (self.web / name).write_text(name)
        self.enterContext(only(self.programs))

    def packages(self, *, checks=False):
        return node.packages(checks=checks, note=self.notes.append, web=self.web)

    def test_packages_are_installed_again_only_when_the_lock_file_changes(self):
        stand_in(self.programs, "npm", "echo 'npm http fetch GET 200 https://x/y 3ms'")
        self.assertEqual([self.packages(), self.packages()], ["installed", "there"])
        (self.web / "package-lock.json").write_text("other")
        self.assertEqual(self.packages(), "installed")
        self.assertEqual(len(calls(self.programs, "npm")), 2)
        self.assertEqual(self.notes, ["1 fetched", "1 fetched"])

    def test_a_demo_goes_without_what_only_checks_need_and_takes_what_they_installed(self):
        stand_in(self.programs, "npm")
        self.packages()
        self.assertEqual((self.packages(checks=True), self.packages(), self.packages(checks=True)),
                         ("installed", "there", "there"))  # fmt: skip
        small, whole = calls(self.programs, "npm")
        self.assertIn("--omit=dev", small)
        self.assertNotIn("--omit=dev", whole)

    def test_an_installation_that_failed_is_tried_again(self):
        stand_in(self.programs, "npm", "echo no network >&2; exit 1")
        for _ in range(2):
            with self.assertRaisesRegex(LaunchError, "(?s)npm ci.*no network"):
                self.packages()
        self.assertEqual(len(calls(self.programs, "npm")), 2)

    def test_it_is_built_again_only_when_a_source_changes(self):
        stand_in(self.programs, "npm")
        self.assertEqual([node.interface(self.web) for _ in range(2)], ["built", "up to date"])
        (self.web / "src/main.tsx").write_text("other")
        self.assertEqual(node.interface(self.web), "built")
        self.assertEqual(calls(self.programs, "npm"), ["run build"] * 2)


class Python(Folder):
    def setUp(self):
        super().setUp()
        self.enterContext(mock.patch.object(python, "VENV", self.folder))
        self.lock = self.folder / "requirements.txt"
        self.lock.write_text("a==1")

    def test_a_lock_file_is_lacking_until_just_this_one_is_installed(self):
        self.assertEqual(python.lacking([self.lock]), [self.lock])
        stand_in(self.programs, "uv", "echo 'Downloading numpy (16.5MiB)'")
        said = python.packages([self.lock], self.notes.append)
        self.assertEqual((said, python.lacking([self.lock])), ("installed from requirements.txt", []))
        self.assertIn("--require-hashes", calls(self.programs, "uv")[0])
        self.assertEqual(self.notes, ["Downloading numpy (16.5MiB)"])
        self.lock.write_text("a==2")
        self.assertEqual(python.lacking([self.lock]), [self.lock])

    def test_weights_are_fetched_once_for_each_lock_file(self):
        stand_in(self.programs, "uv", 'while [ "$1" != --target ]; do shift; done; mkdir -p "$2"')
        with mock.patch.object(python, "WEIGHTS", self.lock):
            place = self.folder / "weights"
            said = [python.weights(place, self.notes.append) for _ in range(2)]
            self.lock.write_text("a==2")
            said.append(python.weights(place, self.notes.append))
        self.assertEqual(said, ["fetched", "there", "fetched"])

    def test_what_fails_is_not_taken_for_installed(self):
        stand_in(self.programs, "uv", "echo hash mismatch; exit 1")
        with self.assertRaisesRegex(LaunchError, "hash mismatch"):
            python.packages([self.lock], self.notes.append)
        self.assertEqual(python.lacking([self.lock]), [self.lock])

    def test_a_registry_that_is_set_for_pip_is_taken_over(self):
        stand_in(self.programs, "python", "echo \"global.index-url='https://mirror.example/simple'\"")
        with (
            mock.patch.object(python.sys, "executable", str(self.programs / "python")),
            mock.patch.dict(os.environ, {"PIP_CERT": "/c.pem"}),
        ):
            for name in ("UV_DEFAULT_INDEX", "SSL_CERT_FILE", "PIP_INDEX_URL"):
                os.environ.pop(name, None)
            found = python._as_pip_does()
            self.assertEqual(found["UV_DEFAULT_INDEX"], "https://mirror.example/simple")
            self.assertEqual(found["SSL_CERT_FILE"], "/c.pem")
            os.environ["UV_DEFAULT_INDEX"] = "https://own.example/simple"
            self.assertNotIn("UV_DEFAULT_INDEX", python._as_pip_does())


class SecretKey(Folder):
    def test_it_is_made_once_and_for_this_account_alone(self):
        with mock.patch.object(places, "VAR", self.folder):
            places.secret_key()
            path = self.folder / "secret-key"
            first = path.read_text()
            places.secret_key()
        self.assertEqual(path.read_text(), first)
        self.assertGreaterEqual(len(first), 60)
        self.assertEqual(path.stat().st_mode & 0o777, 0o600)
