import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from doppio.launch.cluster import Cluster
from tests.core.corpus import ROOT


class OwnCluster(unittest.TestCase):
    def start(self, folder):
        cluster = Cluster(Path(folder) / "var", quick=True)
        self.addCleanup(cluster.remove)
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

    def test_a_database_that_is_down_gives_a_message_to_act_on(self):
        with tempfile.TemporaryDirectory() as folder:
            record = Path(folder) / "database.json"
            record.write_text('{"port": 1, "user": "doppio", "password": "x"}')
            program = (
                "import django; django.setup()\n"
                "from django.test import Client; c = Client(raise_request_exception=False, SERVER_NAME='localhost')\n"
                "for path in ('/health', '/api/workspaces', '/'):\n"
                "    c.cookies['sessionid'] = 'a' * 32\n"
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
