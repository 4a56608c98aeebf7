import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from unittest import mock

from django.core.management import call_command
from django.db import connection
from django.test import TransactionTestCase

from doppio.asking.services import save_recipe
from doppio.core.errors import Cancelled
from doppio.indexing.jobs import JobProgress, request_cancel, run_job
from doppio.indexing.models import Job
from doppio.measuring.services import latest_trial, start_trial
from tests.core.corpus import ROOT, recipe
from tests.server.workspace import make_workspace


class Jobs(TransactionTestCase):
    def setUp(self):
        self.workspace, self.user = make_workspace()
        self.recipe = save_recipe(self.workspace, recipe().body)

    def test_the_worker_builds_and_measures_what_was_queued(self):
        job = start_trial(self.recipe, self.user)
        self.assertEqual(start_trial(self.recipe, self.user).pk, job.pk)
        call_command("work", once=True)
        job.refresh_from_db()
        self.assertEqual((job.state, job.message), (Job.DONE, "3 of 3 answerable questions delivered."))
        self.assertEqual(latest_trial(self.recipe).job, job)

    def test_a_queued_job_is_cancelled_at_once_and_never_runs(self):
        job = request_cancel(start_trial(self.recipe, self.user))
        self.assertEqual(job.state, Job.CANCELLED)
        call_command("work", once=True)
        self.assertIsNone(latest_trial(self.recipe))

    def test_a_running_job_stops_at_its_next_step_and_leaves_no_trial(self):
        job = start_trial(self.recipe, self.user)
        real = JobProgress.start

        def start(progress, step, total, unit):
            if step == "ask questions":
                Job.objects.filter(pk=job.pk).update(cancel_requested=True)
            real(progress, step, total, unit)

        with mock.patch.object(JobProgress, "start", start):
            call_command("work", once=True)
        job.refresh_from_db()
        self.assertEqual(job.state, Job.CANCELLED)
        self.assertIsNone(latest_trial(self.recipe))

    def test_progress_is_written_with_rate_and_time_left(self):
        job = start_trial(self.recipe, self.user)
        seen, now = {}, [100.0]

        def work(running, progress):
            progress.start("encode chunks", 100, "chunks")
            now[0] += 0.5
            progress.advance(50)
            seen.update(Job.objects.filter(pk=job.pk).values("step", "done", "total", "rate").get())
            running.refresh_from_db()
            seen["left"] = running.seconds_left
            return "done"

        run_job(job.pk, work, lambda: now[0])
        self.assertEqual((seen["step"], seen["done"], seen["total"]), ("encode chunks", 50, 100))
        self.assertEqual((seen["rate"], seen["left"]), (100.0, 0.5))

    def test_an_error_ends_the_job_with_its_message(self):
        job = start_trial(self.recipe, self.user)

        def full(_job, _progress):
            raise OSError(28, "No space left on device")

        run_job(job.pk, full)
        job.refresh_from_db()
        self.assertEqual(job.state, Job.FAILED)
        self.assertIn("No space left on device", job.message)

        def cancelled(_job, _progress):
            raise Cancelled("cancelled")

        run_job(job.pk, cancelled)
        job.refresh_from_db()
        self.assertEqual(job.state, Job.FAILED)

    def test_a_worker_that_was_killed_leaves_its_job_to_the_next_one(self):
        job = start_trial(self.recipe, self.user)
        slow = (
            "import time; from doppio.core.models.encoder import Encoder; real = Encoder.encode\n"
            "def encode(self, texts, **k):\n    time.sleep(60); return real(self, texts, **k)\n"
            "Encoder.encode = encode\n"
            "from django.core.management import call_command; call_command('work')\n"
        )
        start = (
            "import django; from django.conf import settings; settings.DATABASES['default']['NAME'] = "
            f"{connection.settings_dict['NAME']!r}; django.setup()\n"
        )
        environment = os.environ | {
            "DJANGO_SETTINGS_MODULE": "doppio.site.settings",
            "DOPPIO_ARTIFACTS": str(Path(os.environ["DOPPIO_ARTIFACTS"]) / f"killed-{os.getpid()}"),
        }
        worker = subprocess.Popen([sys.executable, "-c", start + slow], env=environment, cwd=ROOT)
        try:
            self._until(lambda: Job.objects.get(pk=job.pk).step == "encode chunks")
        finally:
            worker.send_signal(signal.SIGKILL)
            worker.wait()
        self.assertEqual(Job.objects.get(pk=job.pk).state, Job.RUNNING)
        self.assertIsNone(latest_trial(self.recipe))
        time.sleep(0.3)
        call_command("work", once=True, silent_for=0.1)
        self.assertEqual(Job.objects.get(pk=job.pk).state, Job.DONE)
        self.assertIsNotNone(latest_trial(self.recipe))

    def _until(self, ready, seconds=60):
        end = time.monotonic() + seconds
        while not ready():
            self.assertLess(time.monotonic(), end, "the worker did not get there")
            time.sleep(0.05)
