"""Debian's packages: what is installed, with which rights, and what happens while another process holds the lock."""

import tempfile
import unittest
from pathlib import Path
from unittest import mock

from doppio.launch import debian
from doppio.launch.errors import LaunchError
from tests.launch.programs import calls, only, stand_in

LOCK = (
    "E: Could not get lock /var/lib/dpkg/lock-frontend. It is held by process 4711 (unattended-upgr)\n"
    "E: Unable to acquire the dpkg frontend lock (/var/lib/dpkg/lock-frontend), is another process using it?"
)


class Debian(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.notes, self.slept = [], []
        self.enterContext(only(self.folder))

    def ensure(self, *packages, root=True):
        with mock.patch.object(debian.os, "geteuid", lambda: 0 if root else 1000):
            return debian.ensure(list(packages), self.notes.append, self.slept.append)

    def test_nothing_is_run_where_nothing_is_missing(self):
        stand_in(self.folder, "apt-get")
        self.assertEqual(self.ensure(), "all there")
        self.assertEqual(calls(self.folder, "apt-get"), [])

    def test_root_installs_just_what_is_missing_and_hears_how_far_it_is(self):
        said = "echo 'dlstatus:1:40.5:Retrieving file'; echo 'pmstatus:postgresql-15:62.5:Unpacking'"
        stand_in(self.folder, "apt-get", said)
        self.assertEqual(self.ensure("postgresql", "chromium"), "installed postgresql, chromium")
        update, install = calls(self.folder, "apt-get")
        self.assertEqual(update, "update")
        self.assertTrue(install.startswith("install -y --no-install-recommends postgresql chromium "))
        self.assertEqual(self.notes[-2:], ["40 % fetched", "62 % unpacked and set up"])

    def test_a_user_with_sudo_installs_through_it(self):
        stand_in(self.folder, "sudo")
        stand_in(self.folder, "apt-get")
        self.ensure("postgresql", root=False)
        self.assertEqual([call.split()[:3] for call in calls(self.folder, "sudo")],
                         [["-n", "true"], ["-n", "apt-get", "update"], ["-n", "apt-get", "install"]])  # fmt: skip

    def test_a_user_without_sudo_is_told_the_command(self):
        stand_in(self.folder, "sudo", "exit 1")
        with self.assertRaisesRegex(LaunchError, "sudo apt-get install -y --no-install-recommends chromium"):
            self.ensure("chromium", root=False)

    def test_a_lock_that_another_process_holds_is_waited_for_and_told(self):
        busy = f'[ $(grep -c install "{self.folder}/apt-get.calls") -gt 2 ] || [ "$1" = update ] || '
        stand_in(self.folder, "apt-get", busy + f"{{ echo '{LOCK}' >&2; exit 100; }}")
        self.assertEqual(self.ensure("postgresql"), "installed postgresql")
        self.assertEqual(len(calls(self.folder, "apt-get")), 4)
        self.assertEqual(len(self.slept), 2)
        self.assertIn("in use by process 4711, unattended-upgr", self.notes[-1])

    def test_waiting_for_a_lock_ends_some_time(self):
        stand_in(self.folder, "apt-get", f"echo '{LOCK}' >&2; exit 100")
        with mock.patch.object(debian, "PATIENCE", 3 * debian.AGAIN), self.assertRaisesRegex(LaunchError, "4711"):
            self.ensure("postgresql")
        self.assertEqual(len(self.slept), 3)

    def test_any_other_failure_is_told_at_once_with_its_last_words(self):
        stand_in(self.folder, "apt-get", "echo 'E: Unable to locate package postgresql' >&2; exit 100")
        with self.assertRaisesRegex(LaunchError, "(?s)apt-get update.*status 100.*Unable to locate package"):
            self.ensure("postgresql")
        self.assertEqual(self.slept, [])

    def test_only_tests_need_a_browser(self):
        with (
            mock.patch.object(debian, "postgres_programs", lambda: None),
            mock.patch.object(debian.shutil, "which", lambda name: None),
        ):
            self.assertEqual(debian.missing(browser=False), ["postgresql"])
            self.assertEqual(debian.missing(browser=True), ["postgresql", "chromium", "chromium-driver"])
