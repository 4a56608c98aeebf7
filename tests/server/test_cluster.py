import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from doppio.launch.cluster import Cluster
from doppio.launch.errors import LaunchError
from tests.core.corpus import ROOT


def remove(cluster):
    """Stop the server and delete its data, which no other code does."""
    if cluster.record.exists():
        cluster.stop()
        shutil.rmtree(cluster.data.parent, ignore_errors=True)


class OwnCluster(unittest.TestCase):
    def start(self, folder):
        cluster = Cluster(Path(folder) / "var", quick=True)
        self.addCleanup(remove, cluster)
        return cluster, cluster.start()

    def test_it_starts_stops_and_starts_again_with_its_data(self):
        folder = tempfile.mkdtemp()
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        cluster, said = self.start(folder)
        self.assertIn("created on 127.0.0.1", said)
        self.assertIn("runs on", cluster.start())
        cluster.stop()
        self.assertIn("started on", cluster.start())
        self.assertEqual(cluster.record.stat().st_mode & 0o077, 0)

    @unittest.skipUnless(os.geteuid() == 0, "only root has folders that the database's account cannot enter")
    def test_a_checkout_that_only_root_can_enter_keeps_its_data_elsewhere(self):
        folder = tempfile.mkdtemp()
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        Path(folder).chmod(0o700)
        cluster, _ = self.start(folder)
        self.assertFalse(str(cluster.data).startswith(folder))

    def made(self):
        """A cluster that is no test's, with something in it that would be missed."""
        folder = tempfile.mkdtemp()
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        cluster = Cluster(Path(folder) / "var")
        self.assertTrue(cluster.create())
        self.assertFalse(cluster.create())
        (cluster.data / "missed").write_text("x")
        self.addCleanup(shutil.rmtree, cluster.data.parent, ignore_errors=True)
        return cluster, cluster.data

    def test_a_data_folder_without_its_record_is_never_taken_for_nothing(self):
        cluster, data = self.made()
        record = cluster.record.read_text()
        cluster.record.unlink()
        for start in (cluster.create, cluster.start):
            with self.assertRaisesRegex(LaunchError, f"database in {data}, but .*database.json.*--new-database"):
                start()
        self.assertEqual((data / "missed").read_text(), "x")
        cluster.record.write_text(record)
        self.assertFalse(cluster.create())

    def test_a_record_without_its_data_folder_begins_nothing_anew(self):
        cluster, data = self.made()
        away = data.with_name("away")
        data.rename(away)
        with self.assertRaisesRegex(LaunchError, f"names the data folder {data}, but there is no database in it"):
            cluster.create()
        self.assertFalse(data.exists())
        away.rename(data)
        (data / "PG_VERSION").rename(data / "PG_VERSION.lost")
        with self.assertRaisesRegex(LaunchError, "Nothing has been changed"):
            cluster.create()
        self.assertEqual((data / "missed").read_text(), "x")

    def test_a_new_database_that_is_asked_for_leaves_the_old_one_aside(self):
        cluster, data = self.made()
        password = cluster.record.read_text()
        self.assertTrue(cluster.create(new=True))
        self.assertFalse((cluster.data / "missed").exists())
        (kept,) = data.parent.glob("data.kept-*")
        self.assertEqual((kept / "missed").read_text(), "x")
        (record,) = cluster.home.glob("database.json.kept-*")
        self.assertEqual(record.read_text(), password)

    def test_what_a_start_that_was_killed_has_left_is_in_nobodys_way(self):
        cluster, data = self.made()
        data.rename(data.with_name("data.draft"))
        cluster.record.unlink()
        self.assertTrue(cluster.create())
        self.assertEqual(sorted(path.name for path in data.parent.glob("data*")), ["data"])
        self.assertFalse((data / "missed").exists())

    def test_a_database_that_is_down_gives_a_message_to_act_on(self):
        with tempfile.TemporaryDirectory() as folder:
            record = Path(folder) / "database.json"
            record.write_text('{"port": 1, "user": "doppio", "password": "x"}')
            program = (
                "import django; django.setup()\n"
                "from django.test import Client; c = Client(raise_request_exception=False, SERVER_NAME='localhost')\n"
                "for path in ('/health', '/api/workspaces', '/'):\n"
                "    c.cookies[django.conf.settings.SESSION_COOKIE_NAME] = 'a' * 32\n"
                "    r = c.get(path, headers={'accept': 'text/html'})\n"
                "    print(r.status_code, r.content.decode())\n"
            )
            environment = os.environ | {
                "DJANGO_SETTINGS_MODULE": "doppio.site.settings",
                "DOPPIO_DATABASE": str(record),
            }
            said = subprocess.run(
                [sys.executable, "-c", program], env=environment, cwd=ROOT, capture_output=True, text=True
            ).stdout
        self.assertEqual(said.count("503 "), 3, said)
        self.assertEqual(said.count("does not answer. Nothing is lost"), 3)
