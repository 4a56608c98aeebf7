"""An installation whose artifacts stand where several machines see them."""

import io
import tempfile
import threading
from contextlib import redirect_stdout
from pathlib import Path
from unittest import mock

from django.test import override_settings

from doppio.command import store as command
from doppio.core.errors import DoppioError, StoreUnreachable
from doppio.core.progress import Silent
from doppio.core.store.far import FarFolder
from doppio.recipes.artifacts import DatabaseLocks, store
from doppio.recipes.builds import build, open_pipeline
from doppio.recipes.services import core_recipe
from tests.core.object_store import object_store
from tests.server.committed import Committed
from tests.server.workspace import make_workspace, measured


class SharedStores(Committed):
    def setUp(self):
        self.place = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def machine(self, name, url):
        """The settings of a machine with a disk of its own."""
        return override_settings(DOPPIO_ARTIFACTS=self.place / name / "artifacts", DOPPIO_STORE=url)

    def test_what_one_machine_built_another_answers_from_and_builds_nothing(self):
        workspace, _ = make_workspace()
        with object_store() as objects:
            url = f"{objects.folder()}/doppio"
            with self.machine("one", url):
                saved, _ = measured(workspace)
                recipe = core_recipe(saved)
                first = open_pipeline(workspace, recipe).ask("What is E-417?")
            with (
                self.machine("two", url),
                mock.patch("doppio.core.branches.dense.making.encode_segment", side_effect=AssertionError("again")),
            ):
                second = build(workspace, recipe, Silent()).ask("What is E-417?")
                self.assertTrue(store().root.is_relative_to(self.place / "two"))
        for one, other in zip(first.to_json()["stages"], second.to_json()["stages"], strict=True):
            self.assertEqual((one["chunks"], one["scores"]), (other["chunks"], other["scores"]))

    def test_what_was_built_before_is_carried_over_and_a_silent_store_is_told(self):
        workspace, user = make_workspace()
        with self.machine("one", ""):
            saved, _ = measured(workspace)
            with redirect_stdout(io.StringIO()) as said:
                command.show()
            self.assertIn("this machine's own folder", said.getvalue())
            with self.assertRaisesRegex(DoppioError, "DOPPIO_STORE is not set"):
                command.send()
        url = f"file://{self.place}/shared"
        with self.machine("one", url), mock.patch.object(command.out, "print") as told:
            command.send()
            self.assertRegex(told.call_args.args[0], r"^[1-9]\d* artifacts and lists are in file://")
            command.show()
            self.assertIn("'./doppio store send' carries it over", told.call_args.args[0])
            (self.place / "shared" / "installation").write_text("another one's")
            with self.assertRaisesRegex(DoppioError, "belongs to another installation of Doppio"):
                command.send()
        with self.machine("two", url):
            self.assertIsNotNone(open_pipeline(workspace, core_recipe(saved)))
        (self.place / "shared").rename(self.place / "gone")
        (self.place / "shared").write_text("")
        self.client.force_login(user)
        with self.machine("three", url):
            answer = self.client.post(
                f"/api/workspaces/{workspace.pk}/ask",
                {"text": "puppy", "recipe": saved.pk},
                content_type="application/json",
            )
            self.assertEqual(answer.status_code, 503)
            self.assertIn("does not answer as a store of artifacts", answer.json()["detail"])
            with self.assertRaises(StoreUnreachable):
                FarFolder(url).check()

    def test_locks_hold_across_machines_and_end_with_their_holder(self):
        locks, other = DatabaseLocks("s3://one"), DatabaseLocks("s3://one")
        order, inside, go = [], threading.Event(), threading.Event()

        def first():
            with locks.hold("family"):
                inside.set()
                go.wait(20)
                order.append("first")

        def second():
            with other.hold("family"):
                order.append("second")

        threads = [threading.Thread(target=first)]
        threads[0].start()
        self.assertTrue(inside.wait(20))
        threads.append(threading.Thread(target=second))
        threads[1].start()
        # One of another store, or of another name, does not wait.
        with DatabaseLocks("s3://two").hold("family"), other.hold("another"):
            order.append("others")
        go.set()
        for thread in threads:
            thread.join()
        self.assertEqual(order, ["others", "first", "second"])

        with locks.share("in-use") as one, other.share("in-use") as two:
            self.assertEqual((one, two), (True, True))
            with other.share("in-use", alone=True) as alone:
                self.assertFalse(alone)
        with self.assertRaises(KeyError), locks.share("in-use"):
            raise KeyError
        with other.share("in-use", alone=True) as alone:
            self.assertTrue(alone)
            with locks.share("in-use", alone=True) as both:
                self.assertFalse(both)
