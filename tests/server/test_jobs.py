import asyncio
import io
import os
import signal
import subprocess
import sys
import time
from datetime import timedelta
from pathlib import Path
from unittest import mock

from django.core.management import call_command
from django.db import OperationalError, connection
from django.test import SimpleTestCase
from django.utils import timezone

from doppio.core.errors import Cancelled, StoreUnreachable
from doppio.imports import services as imports
from doppio.imports.models import Import
from doppio.jobs.management.commands import work
from doppio.jobs.models import Job
from doppio.jobs.running import JobProgress, request_cancel, run_job
from doppio.jobs.sweep import AGAIN_AT_MOST, sweep, tidy
from doppio.library import files
from doppio.questions.models import AskedQuestion
from doppio.recipes.services import save_recipe
from doppio.stages.dense.measured import start_survey
from doppio.trials.services import latest_trial, start_trial
from tests.core.corpus import ROOT, recipe
from tests.server.committed import Committed
from tests.server.workspace import make_workspace


class Jobs(Committed):
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
            raise OSError(28, "No space left on device", "/var/doppio/artifacts/vectors-1/rows.npy")

        run_job(job.pk, full)
        job.refresh_from_db()
        self.assertEqual(job.state, Job.FAILED)
        self.assertRegex(
            job.message, r"^/var/doppio/artifacts/.*: there is no space left on .*; make some, and run it again"
        )

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

    def test_a_job_that_the_queue_has_lost_is_queued_again(self):
        job = start_trial(self.recipe, self.user)
        self.assertEqual(sweep(), 0)

        def lost(_job, _progress):
            raise OperationalError("server closed the connection unexpectedly")

        with mock.patch("doppio.trials.tasks._trial", lost), self.assertLogs("doppio.jobs.running"):
            call_command("work", once=True)
        job.refresh_from_db()
        self.assertEqual(job.state, Job.RUNNING)
        self.assertEqual(start_trial(self.recipe, self.user).pk, job.pk)
        with self.assertLogs("doppio.jobs.sweep"):
            call_command("work", once=True)
        job.refresh_from_db()
        self.assertEqual((job.state, job.details["taken_up"]), (Job.DONE, 1))
        self.assertIsNotNone(latest_trial(self.recipe))

    def test_one_that_is_lost_time_and_again_ends_and_can_be_started_anew(self):
        job = start_trial(self.recipe, self.user)
        for _ in range(AGAIN_AT_MOST + 1):
            with connection.cursor() as cursor:
                cursor.execute("UPDATE procrastinate_jobs SET status = 'failed'")
            sweep()
        job.refresh_from_db()
        self.assertEqual(job.state, Job.FAILED)
        self.assertIn("lost 4 times; start it again", job.message)
        another = start_trial(self.recipe, self.user)
        self.assertNotEqual(another.pk, job.pk)

    def test_what_nobody_asked_to_keep_goes_when_the_settings_say(self):
        ask_now = timezone.now()
        done = start_trial(self.recipe, self.user)
        call_command("work", once=True)
        waiting = start_survey(self.recipe, self.user)
        AskedQuestion.objects.create(workspace=self.workspace, recipe=self.recipe, text="x")
        upload = imports.begin(self.workspace, self.user)
        row = imports.stage(upload, "a.md", 3, io.BytesIO(b"# A"))
        ended = imports.begin(self.workspace, None)
        unread = imports.stage(ended, "b.md", 3, io.BytesIO(b"# B"))
        request_cancel(imports.start(ended, None))
        soon, later = ask_now + timedelta(days=1), ask_now + timedelta(days=1000)
        tidy(soon)
        self.assertEqual(Job.objects.count(), 3)
        self.assertTrue(files.place_of(unread.digest).exists())
        self.assertTrue(files.place_of(row.digest).exists())
        tidy(later)
        self.assertEqual(list(Job.objects.values_list("pk", flat=True)), [waiting.pk])
        self.assertFalse(AskedQuestion.objects.exists() or Import.objects.exists())
        self.assertFalse(files.place_of(row.digest).exists() or files.place_of(unread.digest).exists())
        self.assertIsNone(latest_trial(self.recipe).job)
        self.assertNotEqual(done.pk, waiting.pk)

    def _until(self, ready, seconds=60):
        end = time.monotonic() + seconds
        while not ready():
            self.assertLess(time.monotonic(), end, "the worker did not get there")
            time.sleep(0.05)


class Upkeep(SimpleTestCase):
    def test_jobs_are_looked_after_where_something_could_not_be_tidied(self):
        swept = []

        def sweep_again():
            swept.append(1)
            if len(swept) == 3:
                raise ZeroDivisionError

        tidied = mock.Mock(side_effect=[StoreUnreachable("no answer"), OSError("no room")])
        with (
            mock.patch.multiple(work, SWEEP_EVERY=0, TIDY_EVERY=0, take_over=mock.AsyncMock(), sweep=sweep_again),
            mock.patch.object(work, "tidy", tidied),
            self.assertLogs(work.log, "WARNING") as told,
            self.assertRaises(ZeroDivisionError),
        ):
            asyncio.run(work._upkeep(mock.Mock(), 1))
        self.assertEqual([line.rsplit(": ", 1)[1] for line in told.output], ["no answer", "no room"])
