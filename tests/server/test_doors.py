"""The doors: what decides who comes in, what is written down, what browsers are told, and what is refused."""

import json
import logging
import threading
from datetime import timedelta
from unittest import mock

from django.conf import settings
from django.contrib.auth.models import User
from django.core.management import call_command
from django.test import RequestFactory, SimpleTestCase, TestCase
from django.utils import timezone
from rest_framework.exceptions import ErrorDetail

from doppio.core.company import Company
from doppio.core.errors import RecipeError
from doppio.jobs.turns import LONGEST_WAIT, Busy, Turns
from doppio.library import attempts
from doppio.library.entry import make_entry_link
from doppio.library.models import Event
from doppio.recipes.services import save_recipe
from doppio.site.errors import sentence
from doppio.site.logs import JsonLines
from tests.core.corpus import recipe
from tests.server.workspace import make_workspace


class Gate(TestCase):
    def test_the_view_decides_and_no_part_of_the_address(self):
        for path in ("/health/../api/schema", "/enter/../api/workspaces", "/health/x", "/sign-in/assets/index.js"):
            self.assertEqual(self.client.get(path).status_code, 401, path)
        for headers in (
            {"SCRIPT_NAME": "/health"},
            {"HTTP_SCRIPT_NAME": "/health"},
            {"HTTP_X_FORWARDED_PREFIX": "/health"},
        ):
            self.assertEqual(self.client.get("/api/schema", **headers).status_code, 401, headers)
            self.assertEqual(self.client.get("/health", **headers).status_code, 200, headers)

    def test_every_answer_tells_the_browser_what_it_may_do(self):
        for path in ("/sign-in", "/health", "/api/session", "/nowhere"):
            answer = self.client.get(path)
            policy = answer["Content-Security-Policy"]
            self.assertIn("script-src 'self';", policy)
            self.assertNotIn("unsafe", policy)
            self.assertIn("frame-ancestors 'none'", policy)
            for header in ("Permissions-Policy", "Referrer-Policy", "X-Content-Type-Options"):
                self.assertIn(header, answer.headers, path)
        self.assertEqual(self.client.get("/api/session")["Cache-Control"], "no-store")
        page = self.client.get("/sign-in")
        nonce = page["Content-Security-Policy"].split("'nonce-")[1].split("'")[0]
        self.assertContains(page, f'<style nonce="{nonce}">')
        self.assertNotIn(nonce, self.client.get("/sign-in")["Content-Security-Policy"])

    def test_cookies_have_a_name_of_this_installation(self):
        user = User.objects.create_user("engineer", password="a long password")
        self.client.post("/sign-in", {"username": user.username, "password": "a long password"})
        cookie = self.client.cookies[settings.SESSION_COOKIE_NAME]
        self.assertRegex(cookie.key, "^doppio-session-[0-9a-f]{8}$")
        self.assertTrue(cookie["httponly"])
        self.assertEqual(cookie["samesite"], "Lax")


class SigningIn(TestCase):
    def setUp(self):
        self.user = User.objects.create_user("engineer", password="a long password")

    def enter(self, password, name="engineer"):
        return self.client.post("/sign-in", {"username": name, "password": password})

    def test_guessing_is_slowed_and_then_locked_by_name(self):
        for _ in range(attempts.FREE_BY_NAME):
            self.assertEqual(self.enter("guess").status_code, 403)
        locked = self.enter("a long password")
        self.assertEqual(locked.status_code, 429)
        self.assertGreater(int(locked["Retry-After"]), 0)
        self.assertEqual(self.enter("x", "somebody else").status_code, 403)
        Event.objects.update(at=timezone.now() - timedelta(seconds=5))
        self.assertEqual(self.enter("a long password").status_code, 302)
        self.client.delete("/api/session")
        # It is over with the right password.
        self.assertEqual(self.enter("guess").status_code, 403)

    def test_guessing_many_names_is_slowed_by_address(self):
        for number in range(attempts.FREE_BY_ADDRESS):
            self.assertEqual(self.enter("guess", f"name {number}").status_code, 403)
        self.assertEqual(self.enter("a long password").status_code, 429)

    def test_waits_double_up_to_an_end(self):
        waits = [attempts.wait(failures, 3) for failures in range(30)]
        self.assertEqual(waits[:5], [timedelta(0)] * 3 + [timedelta(seconds=2), timedelta(seconds=4)])
        self.assertEqual(sorted(waits), waits)
        self.assertEqual(waits[-1], attempts.LONGEST_WAIT)

    def test_what_happened_is_written_down_with_the_name_and_without_a_secret(self):
        self.enter("guess", "nobody")
        self.enter("a long password")
        secret = make_entry_link(self.user)
        self.client.post(f"/enter/{secret}")
        self.client.post("/enter/wrong")
        kinds = [(row.kind, row.name, row.about.get("by")) for row in Event.objects.order_by("pk")]
        self.assertEqual(
            kinds,
            [
                ("sign-in failed", "nobody", None),
                ("signed in", "engineer", "password"),
                ("signed in", "engineer", "link"),
                ("sign-in failed", "engineer", "link"),
            ],
        )
        self.assertTrue(all(row.address == "127.0.0.1" for row in Event.objects.all()))
        written = json.dumps(list(Event.objects.values()), default=str)
        for text in (secret, "a long password", "guess"):
            self.assertNotIn(text, written)

    def test_names_that_no_database_takes_are_wrong_names(self):
        for name in ("a\0b", "x" * 5000):
            self.assertEqual(self.enter("x", name).status_code, 403)


class Audit(TestCase):
    def test_removals_and_recipes_in_force_are_told_to_members(self):
        workspace, user = make_workspace()
        saved = save_recipe(workspace, recipe().body)
        self.client.force_login(user)
        root = f"/api/workspaces/{workspace.pk}/"
        gone = workspace.documents.get(name="wind.md")
        self.client.post(f"{root}recipes/{saved.pk}/in-force")
        self.client.post(f"{root}documents", json.dumps({"documents": [gone.pk]}), content_type="application/json")
        told = self.client.get(f"{root}events").json()
        self.assertEqual([row["kind"] for row in told["events"]], ["documents removed", "recipe put in force"])
        self.assertEqual(told["events"][0]["about"], {"documents": ["wind.md"]})
        self.assertIsNone(told["before"])
        _, stranger = make_workspace("Elsewhere")
        self.client.force_login(stranger)
        self.assertEqual(self.client.get(f"{root}events").status_code, 404)

    def test_the_command_tells_them_all(self):
        import io

        Event.objects.create(kind="sign-in failed", name="nobody")
        out = io.StringIO()
        call_command("events", kind="sign-in failed", stdout=out)
        self.assertEqual(json.loads(out.getvalue())["name"], "nobody")


class Refused(TestCase):
    def setUp(self):
        self.workspace, self.user = make_workspace()
        self.client.force_login(self.user)
        self.root = f"/api/workspaces/{self.workspace.pk}/"

    def post(self, tail, text, expected=400, kind="application/json"):
        answer = self.client.post(self.root + tail, text, content_type=kind)
        self.assertEqual(answer.status_code, expected, answer.content)
        self.assertEqual(list(answer.json()), ["detail"])
        return answer.json()["detail"]

    def test_texts_and_numbers_that_are_none_are_named(self):
        self.assertIn("text: holds a NUL character", self.post("ask", r'{"text": "a\u0000b"}'))
        self.assertIn("text: holds half of a surrogate pair", self.post("ask", r'{"text": "\ud800"}'))
        self.assertIn("nested too deeply", self.post("ask", "[" * 100_000 + "]" * 100_000))
        self.assertIn("body.branches[0].k1: is not finite",
                      self.post("recipes/save", '{"body": {"branches": [{"k1": 1e999}]}}'))  # fmt: skip
        self.assertIn("JSON parse error", self.post("ask", '{"text": ' + "9" * 5000 + "}"))

    def test_other_shapes_have_one_sentence(self):
        for tail, text in (("ask", "[]"), ("ask", '"x"'), ("ask", "{}"), ("recipes/save", "[1]"),
                           ("recipes/save", '{"body": []}'), ("documents", '{"documents": {"a": 1}}'),
                           ("stages/chunks/cut", '{"document": 1, "chunking": []}'), ("trials", "null")):  # fmt: skip
            self.assertTrue(self.post(tail, text, 404 if "cut" in tail else 400))
        self.assertTrue(self.post("documents", "x=1", 415, "text/x-of-its-own"))
        number = self.client.post(self.root + "imports").json()["id"]
        self.assertIn("names", self.post(f"imports/{number}/files", b"", 400, "multipart/form-data; boundary=x"))
        self.assertEqual(self.client.get("/api/nothing").json(), {"detail": "There is nothing at this address."})

    def test_a_recipe_with_a_model_that_is_not_there_is_not_saved(self):
        body = recipe().body
        dense = next(place for place, branch in enumerate(body["branches"]) if branch["kind"] == "vector")
        body["branches"][dense]["encoder"] = "no-such"
        with self.assertRaisesRegex(
            RecipeError, rf"branches\[{dense}\].encoder: 'no-such' is not installed; there are "
        ):
            save_recipe(self.workspace, body)
        body = recipe(rerank={"scorer": "no-such"}).body
        with self.assertRaisesRegex(RecipeError, "rerank.scorer: 'no-such' is not installed; .*late-interaction"):
            save_recipe(self.workspace, body)
        self.assertEqual(self.workspace.recipes.count(), 0)

    def test_the_schema_names_every_status(self):
        schema = self.client.get("/api/schema").json()
        for path in schema["paths"].values():
            for operation in path.values():
                self.assertLessEqual({"400", "401", "404", "409", "429", "503"}, set(operation["responses"]))


class Words(SimpleTestCase):
    def test_what_a_serializer_found_becomes_a_sentence(self):
        wrong = ErrorDetail("This field is required.", "required")
        self.assertEqual(sentence({"text": [wrong]}), "text: This field is required.")
        self.assertEqual(sentence({"rows": [{}, {"name": [wrong]}]}), "rows[1].name: This field is required.")
        self.assertEqual(sentence({"detail": wrong}), "This field is required.")
        self.assertEqual(sentence([wrong]), "This field is required.")

    def test_a_log_line_is_json_and_holds_no_link(self):
        request = RequestFactory().get("/enter/s3cr3t-of-a-link")
        record = logging.LogRecord(
            "django.request", logging.WARNING, "", 0, "Not Found: %s", ("/enter/s3cr3t-of-a-link",), None
        )
        record.request = request
        said = JsonLines().format(record)
        self.assertNotIn("s3cr3t", said)
        found = json.loads(said)
        self.assertEqual((found["level"], found["request"]), ("warning", "GET /enter/[secret]"))


class Turn(SimpleTestCase):
    def test_so_many_work_and_the_others_in_the_order_in_which_they_came(self):
        self.assertEqual(self.worked(1), (1, list(range(6))))
        most, order = self.worked(2)
        # Two that are due together may begin in either order.
        self.assertEqual((most, sorted(order)), (2, list(range(6))))

    def worked(self, at_once):
        """How many of six worked at the same time, and in which order they began."""
        turns, order, most, working = Turns(at_once, 8), [], [0], [0]
        lock, go = threading.Lock(), threading.Event()

        def work(number):
            with turns.turn():
                with lock:
                    working[0] += 1
                    most[0] = max(most[0], working[0])
                    order.append(number)
                go.wait(10)
                with lock:
                    working[0] -= 1

        threads = []
        for number in range(6):
            threads.append(threading.Thread(target=work, args=(number,)))
            threads[-1].start()
            while len(order) < min(number + 1, at_once) or len(turns._line) < number + 1 - at_once:
                pass
        go.set()
        for thread in threads:
            thread.join()
        return most[0], order

    def test_who_has_a_turn_counts_for_all_processes_but_not_who_waits_for_another_machine(self):
        # Those that test beside this were forked from the same process.
        company = self.enterContext(mock.patch("doppio.jobs.turns.company", Company()))
        with Turns(1, 0).turn(), Turns(1, 0, here=False).turn():
            self.assertTrue(company.alone)
            with Turns(1, 0).turn():
                self.assertFalse(company.alone)
        self.assertTrue(company.alone)

    def test_who_would_wait_long_is_told_when_to_come_back(self):
        now = [0.0]
        turns = Turns(1, 0, lambda: now[0])
        with turns.turn():
            now[0] += 20
        with turns.turn(), self.assertRaises(Busy) as refused, turns.turn():
            self.fail("nobody may wait")
        self.assertEqual((refused.exception.status_code, refused.exception.wait), (429, 20))
        self.assertLess(refused.exception.wait, LONGEST_WAIT)

    def test_who_cannot_wait_so_long_is_told_at_once(self):
        now = [0.0]
        turns = Turns(1, 8, lambda: now[0])
        with turns.turn():
            now[0] += 5
        with turns.turn(), self.assertRaises(Busy) as refused, turns.turn(4.9):
            self.fail("there is no time to wait")
        self.assertEqual(refused.exception.wait, 5)
        # One that is free is taken, however little time there is.
        with turns.turn(0.001):
            pass

    def test_short_turns_are_waited_for_however_many(self):
        turns = Turns(1, 0)
        for _ in range(3):
            with turns.turn():
                pass
        self.assertLess(turns._usual.until_due(0, 1), 0.5)
        with turns.turn():
            waiting = threading.Thread(target=lambda: turns.turn().__enter__())
            waiting.start()
            while not turns._line:
                pass
        waiting.join(10)
        self.assertFalse(waiting.is_alive())

    def test_an_error_gives_the_turn_back(self):
        turns = Turns(1, 0)
        with self.assertRaises(KeyError), turns.turn():
            raise KeyError
        with turns.turn():
            pass
