"""What is served: names, keys and their limits, versions that take over, what is kept, and what people say of it."""

import contextlib
import gzip
import json
import threading
from datetime import timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from unittest import mock

from django.contrib.auth.models import User
from django.db import connection, transaction
from django.forms import model_to_dict
from django.utils import timezone
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest
from opentelemetry.sdk.trace.export import SimpleSpanProcessor
from opentelemetry.sdk.trace.export.in_memory_span_exporter import InMemorySpanExporter

from doppio.core.errors import DoppioError
from doppio.jobs.patience import COME_BACK, WAITED
from doppio.jobs.sweep import tidy
from doppio.library.entry import secret_digest
from doppio.library.models import Event, Membership, Role, Workspace
from doppio.library.workspaces import empty
from doppio.recipes.models import RecipeVersion
from doppio.recipes.services import save_recipe
from doppio.serving import feedback, recording
from doppio.serving.figures import share_of
from doppio.serving.known import KnownKeys
from doppio.serving.models import Key, Published, Served, Use
from doppio.serving.recording import recorder
from doppio.serving.tracing import Tracing
from doppio.serving.versions import Versions, versions
from doppio.serving.watching import watched
from tests.core.corpus import recipe
from tests.server.committed import Committed
from tests.server.workspace import make_workspace, measured

ANSWERING = {"select": {**recipe().select, "answer": {"kind": "sentences"}}}


class Serving(Committed):
    def setUp(self):
        self.space, self.user = make_workspace("Served")
        self.recipe, _ = measured(self.space, rerank=None)
        self.client.force_login(self.user)
        self.path = f"/api/workspaces/{self.space.pk}/published"
        versions.__init__()

    def post(self, path, given=None, status=200, **headers):
        answer = self.client.post(path, json.dumps(given or {}), content_type="application/json", headers=headers)
        self.assertEqual(answer.status_code, status, "" if answer.streaming else answer.content[:300])
        return answer

    def publish(self, name="desk", **given):
        return self.post(self.path, {"name": name, "recipe": self.recipe.pk, **given}, 201).json()

    def key(self, made, scopes=("search", "answer", "read"), **limits):
        path = f"{self.path}/{made['id']}/keys"
        return self.post(path, {"name": "bot", "scopes": scopes, **limits}, 201).json()["secret"]

    def ask(self, secret, question="What is E-417?", status=200, what="search", name="desk", **given):
        # Assistants send no cookie.
        self.client.logout()
        answer = self.post(f"/serve/{name}/{what}", {"question": question, **given}, status,
                           Authorization=f"Bearer {secret}")  # fmt: skip
        self.client.force_login(self.user)
        return answer

    def test_a_key_is_read_once_and_again_when_anything_about_it_is_another(self):
        made = self.publish()
        digest = secret_digest(self.key(made))
        known = KnownKeys()
        first = known.get(digest, "desk")
        with self.assertNumQueries(1):
            self.assertIs(known.get(digest, "desk"), first)
        self.assertIsNone(known.get(digest, "else"))
        for change in (
            lambda: Key.objects.update(scopes=["read"]),
            lambda: Published.objects.update(share=0.25),
            lambda: Workspace.objects.filter(pk=self.space.pk).update(name="Renamed"),
            lambda: RecipeVersion.objects.filter(pk=self.recipe.pk).update(name="other"),
        ):
            before = known.get(digest, "desk")
            with contextlib.suppress(ZeroDivisionError), transaction.atomic():
                Key.objects.update(name="lost")
                self.assertEqual(known.get(digest, "desk").name, "lost")
                raise ZeroDivisionError
            self.assertEqual(known.get(digest, "desk").name, before.name)
            change()
            self.assertIsNot(known.get(digest, "desk"), before)
        now = known.get(digest, "desk")
        self.assertEqual((now.scopes, now.published.share), (["read"], 0.25))
        self.assertEqual((now.published.workspace.name, now.published.recipe.name), ("Renamed", "other"))
        Workspace.objects.update(removed_at=timezone.now())
        self.assertIsNone(known.get(digest, "desk"))

    def test_what_was_measured_is_what_is_served(self):
        made = self.publish()
        found = self.ask(self.key(made), trace=True)
        body = found.json()
        here = self.post(f"/api/workspaces/{self.space.pk}/ask", {"text": "What is E-417?"}).json()
        self.assertEqual(body["written"], here["handed"]["written"])
        self.assertEqual(body["recipe"], {"name": self.recipe.name, "version": 1})
        for stage, other in zip(body["trace"]["stages"], here["trace"]["stages"], strict=True):
            self.assertEqual((stage["chunks"], stage["scores"]), (other["chunks"], other["scores"]))
        self.assertEqual(
            [one["number"] for one in body["passages"]], [one["number"] for one in here["handed"]["pieces"]]
        )
        self.assertEqual(found["X-Request-Id"], body["request"])
        self.assertIn("all", body["seconds"])

    def test_a_caller_may_want_fewer_passages_or_conditions(self):
        secret = self.key(self.publish())
        self.assertEqual(len(self.ask(secret, k=1).json()["passages"]), 1)
        only = self.ask(secret, only="document is dogs.html").json()["passages"]
        self.assertEqual({one["title"] for one in only}, {self.space.documents.get(name="dogs.html").title})
        problem = self.ask(secret, k=0, status=400).json()["detail"]
        self.assertTrue(problem.startswith("k:"), problem)

    def test_nobody_gets_in_without_a_key_for_what_is_asked(self):
        made = self.publish()
        secret = self.key(made, ["search"])
        other = self.key(self.publish("other"))
        self.client.logout()
        for headers in ({}, {"Authorization": "Bearer dop-wrong"}, {"Authorization": f"Basic {secret}"},
                        {"Authorization": f"Bearer {other}"}):  # fmt: skip
            refused = self.post("/serve/desk/search", {"question": "x"}, 401, **headers)
            self.assertEqual(refused["WWW-Authenticate"], "Bearer")
        self.assertIn("search, and not for answer", self.ask(secret, what="answer", status=403).json()["detail"])
        self.assertEqual(
            self.client.get("/serve/desk/documents", headers={"Authorization": f"Bearer {secret}"}).status_code, 403
        )
        self.ask(secret, name="nothing-here", status=401)
        for ask in (self.client.get, self.client.post):
            nothing = ask("/serve/desk/serach", headers={"Authorization": f"Bearer {secret}"})
            self.assertEqual(nothing.status_code, 404)
            self.assertIn("/serve/desk/serach; search, answer,", nothing.json()["detail"])
        self.assertEqual(Served.objects.count(), 0)

    def test_secrets_are_kept_as_digests_and_keys_end(self):
        made = self.publish()
        secret = self.key(made)
        key = Key.objects.get()
        self.assertNotIn(secret, json.dumps(list(Key.objects.values()), default=str))
        self.assertNotIn(secret, json.dumps(self.client.get(self.path).json()))
        key.expires_at = timezone.now() - timedelta(seconds=1)
        key.save()
        self.assertIn("ended on", self.ask(secret, status=401).json()["detail"])
        key.expires_at = None
        key.save()
        self.ask(secret)
        self.client.delete(f"{self.path}/{made['id']}/keys/{key.pk}")
        self.ask(secret, status=401)
        told = {"published", "key made", "key taken back"}
        self.assertLessEqual(told, set(Event.objects.values_list("kind", flat=True)))

    def test_limits_are_held_over_all_processes(self):
        made = self.publish()
        secret = self.key(made, a_minute=2)
        noon = timezone.now().replace(hour=12, minute=0, second=50)
        with mock.patch("doppio.serving.keys.timezone.now", return_value=noon):
            for _ in range(2):
                self.ask(secret)
            refused = self.ask(secret, status=429)
            self.assertEqual(refused["Retry-After"], "10")
            self.assertIn("2 times a minute", refused.json()["detail"])
        with mock.patch("doppio.serving.keys.timezone.now", return_value=noon + timedelta(minutes=1)):
            self.ask(secret)
        daily = self.key(made, a_day=1)
        self.ask(daily)
        self.assertIn("1 times a day", self.ask(daily, status=429).json()["detail"])
        used = {row.key_id: (row.asked, row.refused) for row in Use.objects.filter(minute=720)}
        self.assertEqual(used[Key.objects.get(a_minute=2).pk], (2, 1))

    def test_what_the_server_says_of_the_wait_for_a_thread_is_told(self):
        secret = self.key(self.publish())
        self.client.logout()

        def ask(**told):
            return self.client.post(
                "/serve/desk/search", {"question": "What is E-417?"}, "application/json",
                headers={"Authorization": f"Bearer {secret}"}, **told,
            )  # fmt: skip

        waited = ask(**{WAITED: 1.5}).json()["seconds"]
        self.assertGreater(waited["all"], 1.5)
        self.assertLess(ask().json()["seconds"]["all"], 1.5)
        with mock.patch.object(watched, "refused") as noted:
            refused = ask(**{COME_BACK: 7.4})
        self.assertEqual((refused.status_code, refused["Retry-After"]), (429, "7"))
        noted.assert_called_once_with("desk")

    def test_days_that_are_over_are_added_up(self):
        made = self.publish()
        self.key(made)
        key, day = Key.objects.get(), timezone.now().date() - timedelta(days=1)
        for minute in (3, 900, 1440):
            Use.objects.create(key=key, day=day, minute=minute, asked=2, refused=1)
        tidy(timezone.now())
        self.assertEqual(list(Use.objects.values_list("minute", "asked", "refused")), [(1440, 6, 3)])

    def test_another_version_takes_over_and_the_one_before_comes_back(self):
        made = self.publish()
        secret = self.key(made)
        other, _ = measured(self.space, rerank=None, select={**recipe().select, "k": 1})
        path = f"{self.path}/{made['id']}/release"
        after = self.post(path, {"recipe": other.pk}).json()
        self.assertEqual((after["recipe"]["version"], after["before"]["version"]), (2, 1))
        self.assertEqual(self.ask(secret).json()["recipe"]["version"], 2)
        self.assertIn("already", self.post(path, {"recipe": other.pk}, 400).json()["detail"])
        back = self.post(path, {"back": True}).json()
        self.assertEqual(back["recipe"]["version"], 1)
        self.assertEqual([one["back"] for one in back["releases"]], [True, False, False])
        self.assertEqual(self.ask(secret).json()["recipe"]["version"], 1)

    def test_what_is_not_built_is_not_published(self):
        unbuilt = save_recipe(self.space, recipe(chunking={"rule": "fixed-window", "unit": "words", "size": 9}).body)
        problem = self.post(self.path, {"name": "desk", "recipe": unbuilt.pk}, 400).json()["detail"]
        self.assertIn("measure it first", problem)
        self.publish()
        for name in ("desk", "Desk", "-desk", ""):
            self.post(self.path, {"name": name, "recipe": self.recipe.pk}, 400)

    def test_a_process_answers_with_the_old_version_until_the_new_one_is_open(self):
        made = Published.objects.get(pk=self.publish()["id"])
        other, _ = measured(self.space, rerank=None, select={**recipe().select, "k": 1})
        here = Versions()
        here.looked_after = True
        self.assertEqual(here.of(made), self.recipe)
        here.look()
        made.recipe = other
        made.save()
        self.assertEqual(here.of(made), self.recipe)
        self.assertEqual(made.opened.get().recipe, self.recipe)
        gone = mock.patch("doppio.serving.versions.to_be_asked", side_effect=FileNotFoundError)
        with gone, self.assertLogs("doppio.serving.versions", "WARNING"):
            here.look()
        self.assertEqual(here.of(made), self.recipe)
        here.look()
        self.assertEqual(here.of(made), other)
        self.assertEqual(made.opened.get().recipe, other)
        made.delete()
        here.look()
        self.assertEqual(here._answering, {})

    def test_a_second_version_is_asked_beside_and_compared(self):
        made = self.publish()
        secret = self.key(made)
        other, _ = measured(self.space, rerank=None, select={**recipe().select, "k": 1})
        path = f"{self.path}/{made['id']}/beside"
        self.post(path, {"recipe": self.recipe.pk, "use": "shadow"}, 400)
        self.post(path, {"recipe": other.pk, "use": "shadow", "share": 1.5}, 400)
        self.post(path, {"recipe": other.pk, "use": "shadow"})
        body = self.ask(secret).json()
        row = Served.objects.get()
        self.assertEqual(row.recipe, self.recipe)
        self.assertEqual(row.beside["pieces"], 1)
        self.assertAlmostEqual(row.beside["overlap"], 1 / len(body["passages"]), places=3)
        told = self.client.get(f"{self.path}/{made['id']}/figures").json()["beside"]
        self.assertEqual((told["asked"], told["same"], told["recipe"]), (1, 0, f"{other.name} v2"))

    def test_a_share_of_the_keys_is_answered_by_the_second_version(self):
        made = self.publish()
        secrets = [self.key(made), self.key(made)]
        first, second = Key.objects.order_by("pk")
        Key.objects.filter(pk=first.pk).update(draw=0.1)
        Key.objects.filter(pk=second.pk).update(draw=0.9)
        other, _ = measured(self.space, rerank=None, select={**recipe().select, "k": 1})
        self.post(f"{self.path}/{made['id']}/beside", {"recipe": other.pk, "use": "split", "share": 0.5})
        found = [self.ask(secret).json() for secret in secrets for _ in range(2)]
        self.assertEqual([one["recipe"]["version"] for one in found], [2, 2, 1, 1])
        for one, thumb in zip(found, (1, 1, 1, -1), strict=True):
            self.client.logout()
            self.post("/serve/desk/feedback", {"request": one["request"], "thumb": thumb}, 204,
                      Authorization=f"Bearer {secrets[0]}")  # fmt: skip
            self.client.force_login(self.user)
        told = self.client.get(f"{self.path}/{made['id']}/figures?hours=1").json()
        liked = {one["recipe"]: (one["up"], one["down"]) for one in told["versions"]}
        self.assertEqual(liked, {f"{other.name} v1": (1, 1), f"{other.name} v2": (2, 0)})
        self.assertEqual((told["up"], told["down"], told["asked"], sum(told["load"])), (3, 1, 4, 4))

    def test_words_are_kept_only_where_somebody_says_so_and_without_what_is_taken_out(self):
        made = self.publish()
        secret = self.key(made)
        question = "Write to anna@ropeway.example or +43 512 345678: what is E-417?"
        self.ask(secret, question)
        self.assertEqual(Served.objects.get().question, "")
        path = f"{self.path}/{made['id']}"
        given = {"keep_days": 2, "redact": ["mail addresses", "long numbers", "", r"E-\d+"]}
        answer = self.client.patch(path, given, content_type="application/json")
        self.assertEqual(answer.json()["redact"], ["mail addresses", "long numbers", r"E-\d+"])
        self.ask(secret, question)
        kept = Served.objects.first().question
        self.assertEqual(kept, "Write to [taken out] or [taken out]: what is [taken out]?")
        wrong = self.client.patch(path, {"keep_days": 2, "redact": ["("]}, content_type="application/json")
        self.assertIn("rule 1", wrong.json()["detail"])
        Served.objects.update(at=timezone.now() - timedelta(days=3))
        tidy(timezone.now())
        self.assertEqual(set(Served.objects.values_list("question", flat=True)), {""})
        Served.objects.update(at=timezone.now() - timedelta(days=91))
        tidy(timezone.now())
        self.assertEqual(Served.objects.count(), 0)

    def test_of_very_many_figures_the_latest_are_kept(self):
        secret = self.key(self.publish())
        latest = [self.ask(secret).json()["request"] for _ in range(3)]
        with mock.patch("doppio.serving.keeping.MOST_FIGURES", 2):
            tidy(timezone.now())
        self.assertEqual(set(Served.objects.values_list("request", flat=True)), set(latest[1:]))

    def test_a_rule_that_runs_away_keeps_nothing(self):
        from doppio.serving.redaction import redacted

        self.assertEqual(redacted("a" * 2000 + "!", [r"(a|aa)+$"]), "")

    def test_what_is_not_liked_waits_for_a_label_in_a_set_of_its_own(self):
        made = self.publish()
        asked = self.post(f"{self.path}/{made['id']}/ask", {"question": "Is there soup at the top?"}).json()
        say = {"request": asked["request"], "wrong": "it talks of wind", "question": "Is there soup at the top?"}
        for _ in range(2):
            self.post(f"{self.path}/{made['id']}/say", say, 204)
        row = self.space.questions.get(set__name="From use")
        self.assertEqual((row.text, row.tags, row.set.measured), ("Is there soup at the top?", ["from use"], False))
        self.assertIn(
            "was not served", self.post(f"{self.path}/{made['id']}/say", {"request": "?"}, 400).json()["detail"]
        )

    def test_kept_questions_are_offered_for_labels_worst_first(self):
        made = self.publish()
        path = f"{self.path}/{made['id']}"
        self.client.patch(path, {"keep_days": 5, "redact": []}, content_type="application/json")
        secret = self.key(made)
        fine, empty = (
            self.ask(secret, "What is E-417?").json(),
            self.ask(secret, "soup", only="title is nothing").json(),
        )
        self.assertEqual(empty["passages"], [])
        bad = self.ask(secret, "My puppy needs a ticket?").json()
        self.post(f"{path}/say", {"request": bad["request"], "thumb": -1}, 204)
        offered = self.client.get(f"{path}/questions").json()
        # What was not liked has become a question already.
        self.assertEqual([(one["question"], one["why"]) for one in offered],
                         [("soup", "nothing found"), ("What is E-417?", "low score")])  # fmt: skip
        taken = self.post(f"{path}/questions", {"requests": [fine["request"], empty["request"]]}).json()
        self.assertEqual(taken, {"made": 2, "there": 0})
        self.assertEqual(self.client.get(f"{path}/questions").json(), [])
        self.assertEqual(self.space.questions.filter(set__name="From use").count(), 3)

    def test_documents_are_listed_and_read_by_sections(self):
        secret = self.key(self.publish(), ["read"])
        self.client.logout()
        headers = {"Authorization": f"Bearer {secret}"}
        listed = self.client.get("/serve/desk/documents", headers=headers).json()
        self.assertEqual({one["name"] for one in listed}, set(self.space.documents.values_list("name", flat=True)))
        rest = self.client.get(f"/serve/desk/documents?after={listed[0]['id']}&limit=1", headers=headers).json()
        self.assertEqual(rest, listed[1:2])
        wind = self.space.documents.get(name="wind.md")
        whole = self.client.get(f"/serve/desk/documents/{wind.pk}", headers=headers).json()
        self.assertEqual(whole["text"], wind.text)
        for one in whole["sections"]:
            part = self.client.get(f"/serve/desk/documents/{wind.pk}?section={one['index']}", headers=headers).json()
            self.assertEqual(part["text"], wind.text[one["start"] : one["end"]])
        self.assertEqual(
            self.client.get(f"/serve/desk/documents/{wind.pk}?section=99", headers=headers).status_code, 400
        )
        self.assertEqual(self.client.get("/serve/desk/documents/999999999", headers=headers).status_code, 404)

    def test_health_says_what_answers(self):
        secret = self.key(self.publish())
        told = self.client.get("/serve/desk/health", headers={"Authorization": f"Bearer {secret}"}).json()
        self.assertEqual(
            (told["answers"], told["absent"], told["documents"]), (False, 0, self.space.documents.count())
        )
        self.assertEqual(
            self.ask(secret, what="answer", status=400).json()["detail"].split(" hands")[0], f"{self.recipe.name} v1"
        )

    def test_figures_go_out_as_open_metrics(self):
        secret = self.key(self.publish(), ["search", "watch"])
        self.ask(secret)
        self.ask(secret, only="title is nothing")
        told = self.client.get("/serve/desk/metrics", headers={"Authorization": f"Bearer {secret}"})
        text = told.content.decode()
        self.assertTrue(text.endswith("# EOF\n"))
        self.assertIn('doppio_questions_total{kind="search",name="desk",outcome="empty"}', text)
        self.assertIn('stage="fused"', text)
        self.assertTrue(told["Content-Type"].startswith("application/openmetrics-text"))
        self.assertGreater(len(watched.told()), 100)

    def test_owners_alone_publish_and_all_members_may_look_and_try(self):
        made = self.publish()
        for role in (Role.READER, Role.JUDGE, Role.EDITOR):
            member = User.objects.create_user(f"a {role.label}")
            Membership.objects.create(workspace=self.space, user=member, role=role)
            self.client.force_login(member)
            self.post(self.path, {"name": "mine", "recipe": self.recipe.pk}, 403)
            self.post(f"{self.path}/{made['id']}/keys", {"name": "k", "scopes": ["search"]}, 403)
            self.assertEqual(len(self.client.get(self.path).json()), 1)
            self.post(f"{self.path}/{made['id']}/ask", {"question": "What is E-417?"})

    def test_names_and_keys_outlive_an_emptying_and_end_with_a_removal(self):
        secret = self.key(self.publish())
        after = empty(self.space)
        row = Published.objects.get()
        self.assertEqual((row.workspace, row.recipe.workspace), (after, after))
        self.assertIn("not built", self.ask(secret, status=409).json()["detail"])
        after.removed_at = timezone.now()
        after.save()
        self.ask(secret, status=401)
        tidy(timezone.now() + timedelta(days=8))
        self.assertEqual((Published.objects.count(), Key.objects.count()), (0, 0))

    def test_feedback_waits_for_a_question_that_another_process_has_still_to_write(self):
        made = Published.objects.get(pk=self.publish()["id"])
        recorder.looked_after = True
        self.addCleanup(setattr, recorder, "looked_after", False)

        def write_it():
            row = {"published": made, "recipe": self.recipe, "kind": "search", "at": timezone.now()}
            Served.objects.create(request="late", **row)
            connection.close()

        with mock.patch.object(feedback, "WRITTEN_WITHIN", 10.0):
            writing = threading.Timer(0.3, write_it)
            writing.start()
            feedback.say(made, "late", thumb=1)
            writing.join()
        self.assertEqual(Served.objects.get().thumb, 1)
        with (
            mock.patch.object(feedback, "WRITTEN_WITHIN", 0.2),
            self.assertRaisesRegex(DoppioError, "'never' was not served under desk, or is no longer known"),
        ):
            feedback.say(made, "never", thumb=1)

    def test_what_cannot_be_written_waits(self):
        made = Published.objects.get(pk=self.publish()["id"])
        full = OSError("the disk is full")
        with mock.patch.object(recording, "planned_once", side_effect=full), self.assertRaises(OSError):
            recorder.note(made, None, request="a", recipe=self.recipe.pk, kind="search", question="x")
        self.assertEqual(Served.objects.count(), 0)
        recorder.write()
        self.assertEqual(Served.objects.get().request, "a")

    def test_what_was_served_is_written_once_and_without_what_was_taken_down_meanwhile(self):
        made = Published.objects.get(pk=self.publish()["id"])
        self.key({"id": made.pk})
        key, gone = Key.objects.get(), Key(pk=1 << 40)
        told = {"recipe": self.recipe.pk, "kind": "search", "question": "x"}
        recorder.looked_after = True
        self.addCleanup(setattr, recorder, "looked_after", False)
        full = {"seconds": {"all": 0.25}, "pieces": 2, "best": -0.5, "answered": 0.75, "failed": 'no, "never"\\'}
        recorder.note(made, key, request="whole", **told, **full)
        recorder.note(made, gone, request="of a key that is gone", **told)
        recorder.note(Published(pk=1 << 40), None, request="of a name that is gone", **told)
        recorder.note(made, None, request="of a recipe that is gone", **told | {"recipe": 1 << 40})
        recorder.beside("whole", {"overlap": 0.5})
        for _ in range(2):
            recorder.note(made, None, request="twice", **told)
        with self.assertNumQueries(1):
            recorder.write()
        recorder.write()
        rows = {row.request: row for row in Served.objects.all()}
        self.assertEqual(rows.keys(), {"whole", "of a key that is gone", "twice"})
        whole = model_to_dict(rows["whole"], exclude=["id", "at"])
        self.assertEqual(
            whole,
            {"published": made.pk, "recipe": self.recipe.pk, "key": key.pk, "request": "whole", "kind": "search",
             "question": "", "beside": {"overlap": 0.5}, "thumb": 0, "wrong": "", "taken": False, **full},
        )  # fmt: skip
        self.assertLess(abs((rows["whole"].at - timezone.now()).total_seconds()), 60)
        bare, usual = (
            model_to_dict(row, exclude=["id", "at", "request"])
            for row in (rows["twice"], Served(published=made, recipe=self.recipe, kind="search"))
        )
        self.assertEqual(bare, usual)
        self.assertEqual(rows["of a key that is gone"].key, None)


class Answers(Committed):
    post, key, ask, publish = Serving.post, Serving.key, Serving.ask, Serving.publish

    def setUp(self):
        Serving.setUp(self)
        self.recipe, _ = measured(self.space, rerank=None, **ANSWERING)
        self.secret = Serving.key(self, self.publish())

    def events(self, response):
        text = b"".join(response.streaming_content).decode()
        found = []
        for block in text.strip().split("\n\n"):
            name, data = block.split("\n", 1)
            found.append((name.removeprefix("event: "), json.loads(data.removeprefix("data: "))))
        return found

    def test_an_answer_cites_the_passages_it_comes_with_whole_or_as_it_grows(self):
        question = "What does E-417 mean?"
        whole = self.ask(self.secret, question, what="answer").json()
        self.assertTrue(whole["sentences"])
        for said in whole["sentences"]:
            texts = [one["text"] for one in whole["passages"] if one["number"] in said["cites"]]
            self.assertTrue(any(said["text"] in text for text in texts), said)
        response = self.ask(self.secret, question, what="answer", stream=True)
        self.assertTrue(response["Content-Type"].startswith("text/event-stream"))
        told = self.events(response)
        self.assertEqual([name for name, _ in told],
                         ["passages", *["sentence"] * len(whole["sentences"]), "end"])  # fmt: skip
        self.assertEqual([body for name, body in told if name == "sentence"], whole["sentences"])
        self.assertEqual(told[0][1]["passages"], whole["passages"])
        self.assertEqual([row.kind for row in Served.objects.all()], ["answer", "answer"])
        for seconds in (whole["seconds"], told[-1][1]["seconds"], Served.objects.first().seconds):
            self.assertGreater(seconds["answer"], 0)
            self.assertGreaterEqual(seconds["all"], seconds["answer"])

    def test_an_answer_that_breaks_off_says_so(self):
        from doppio.core.errors import DoppioError

        with mock.patch("doppio.serving.served_views.sentences", side_effect=DoppioError("the answerer is away")):
            told = self.events(self.ask(self.secret, what="answer", stream=True))
            self.ask(self.secret, what="answer", status=400)
        self.assertEqual(told[-1], ("problem", {"detail": "the answerer is away"}))
        self.assertEqual({row.failed for row in Served.objects.all()}, {"the answerer is away"})


class Intervals(Committed):
    def test_a_share_lies_within_its_interval(self):
        share, low, high = share_of(8, 10)
        # Wilson's interval of 8 of 10, from its published formula by hand.
        self.assertEqual((share, low, high), (0.8, 0.4902, 0.9433))
        self.assertEqual(share_of(0, 0), [])
        self.assertEqual(share_of(0, 5)[1], 0.0)


class Traces(Committed):
    def test_a_question_is_a_span_with_one_for_each_stage(self):
        kept = InMemorySpanExporter()
        traced = Tracing(SimpleSpanProcessor(kept))
        parent = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"
        seconds = {"encode question": 0.01, "sparse": 0.02, "fused": 0.001, "all": 0.04}
        traced.question("desk", "search", "ab12", "two-branch v3", seconds, 4, {"Traceparent": parent})
        *stages, whole = sorted(
            kept.get_finished_spans(), key=lambda span: (span.name.startswith("doppio"), span.start_time)
        )
        self.assertEqual([span.name for span in stages], ["encode question", "sparse", "fused"])
        self.assertEqual(f"{whole.context.trace_id:032x}", parent[3:35])
        self.assertEqual(f"{whole.parent.span_id:016x}", parent[36:52])
        self.assertEqual(whole.attributes["doppio.request"], "ab12")
        self.assertAlmostEqual((whole.end_time - whole.start_time) / 1e9, 0.04, places=6)
        for span in stages:
            self.assertEqual(span.parent.span_id, whole.context.span_id)
            self.assertAlmostEqual((span.end_time - span.start_time) / 1e9, seconds[span.name], places=6)

    def test_traces_are_sent_where_the_standard_variable_says(self):
        got = []

        class Collector(BaseHTTPRequestHandler):
            def do_POST(self):
                body = self.rfile.read(int(self.headers["Content-Length"]))
                body = gzip.decompress(body) if self.headers.get("Content-Encoding") == "gzip" else body
                got.append((self.path, ExportTraceServiceRequest.FromString(body)))
                self.send_response(200)
                self.end_headers()

            def log_message(self, *_):
                pass

        with ThreadingHTTPServer(("127.0.0.1", 0), Collector) as server:
            threading.Thread(target=server.serve_forever, daemon=True).start()
            where = {"OTEL_EXPORTER_OTLP_ENDPOINT": f"http://127.0.0.1:{server.server_port}"}
            self.assertFalse(Tracing().wanted)
            with mock.patch.dict("os.environ", where):
                traced = Tracing()
                traced.question("desk", "search", "ab12", "two-branch v3", {"fused": 0.1, "all": 0.2}, 4, {})
                traced._tracer.span_processor.force_flush()
                traced._tracer.span_processor.shutdown()
            server.shutdown()
        [(path, sent)] = got
        self.assertEqual(path, "/v1/traces")
        spans = sent.resource_spans[0].scope_spans[0].spans
        self.assertEqual({span.name for span in spans}, {"fused", "doppio search"})
