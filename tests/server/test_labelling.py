"""Questions and labels written by hand: what is saved, what is refused, and what becomes of trials."""

import os
import random
import signal
import subprocess
import sys
import time

from django.db import connection
from django.test import TestCase

from doppio.core.progress import Silent
from doppio.library.models import Event, Workspace
from doppio.questions.models import AnswerSpan, Question
from doppio.questions.services import core_questions
from doppio.trials.models import TrialRecord
from doppio.trials.services import latest_trial, measure_recipe
from tests.core.corpus import recipe
from tests.server.committed import Committed
from tests.server.test_workspaces import Sending
from tests.server.workspace import make_workspace, measured

GIVING = """
import django
from django.conf import settings
settings.DATABASES["default"]["NAME"] = {name!r}
django.setup()
from django.contrib.auth.models import User
from django.test import Client
client = Client(SERVER_NAME="localhost")
client.force_login(User.objects.get(pk={user}))
for start in range({most}):
    body = {{"document": {document}, "start": start, "end": start + 5, "grade": 1 + start % 3}}
    answer = client.post({path!r}, body, content_type="application/json")
    assert answer.status_code == 201, answer.content
    print(start, answer.json()["grade"], flush=True)
"""


class Killed(Committed):
    def test_no_label_that_was_answered_for_is_lost_whenever_the_server_is_killed(self):
        workspace, user = make_workspace(self.id())
        question = workspace.questions.get(identity="q1")
        document = workspace.documents.get(name="wind.md")
        path = f"/api/workspaces/{workspace.pk}/questions/{question.pk}/labels"
        dice = random.Random(4)
        environment = os.environ | {"DJANGO_SETTINGS_MODULE": "doppio.site.settings"}
        for _ in range(2):
            question.spans.all().delete()
            code = GIVING.format(name=connection.settings_dict["NAME"], user=user.pk,
                                 document=document.pk, path=path, most=len(document.text) - 5)  # fmt: skip
            server = subprocess.Popen(
                [sys.executable, "-c", code], env=environment, stdout=subprocess.PIPE, text=True
            )
            try:
                said = [server.stdout.readline()]
                time.sleep(dice.random() * 0.3)
            finally:
                server.send_signal(signal.SIGKILL)
            said += server.stdout.read().splitlines()
            server.wait()
            server.stdout.close()
            shown = {int(line.split()[0]): float(line.split()[1]) for line in said if len(line.split()) == 2}
            self.assertTrue(shown)
            kept = dict(question.spans.values_list("start", "grade"))
            self.assertEqual({start: kept.get(start) for start in shown}, shown)
            # At most the one that was under way is there beside them.
            self.assertLessEqual(len(kept), len(shown) + 1)


class Labelling(Sending, TestCase):
    def setUp(self):
        self.workspace, self.user = make_workspace()
        self.client.force_login(self.user)
        self.at = f"/api/workspaces/{self.workspace.pk}"
        self.document = self.workspace.documents.get(name="wind.md")

    def write(self, text="When do cabins stop?", **more):
        return self.send("post", f"{self.at}/questions", {"text": text, **more})

    def label(self, question, quote, grade=1.0):
        start = self.document.text.index(quote)
        body = {"document": self.document.pk, "start": start, "end": start + len(quote), "grade": grade}
        return self.send("post", f"{self.at}/questions/{question}/labels", body)

    def asked(self):
        """Questions that a trial asks, by their text."""
        return {question.text: question for question in core_questions(self.workspace)}

    def test_a_written_question_is_asked_by_trials_once_it_is_labelled(self):
        status, row = self.write(tags=["paraphrase"])
        self.assertEqual((status, row["answerable"], row["unanswerable"]), (201, False, False))
        self.assertNotIn(row["text"], self.asked())
        status, label = self.label(row["id"], "reopens when the mean", 2)
        self.assertEqual((status, label["judge"], label["grade"]), (201, self.user.username, 2.0))
        core = self.asked()[row["text"]]
        self.assertEqual([(span.document, span.grade) for span in core.spans], [("wind.md", 2.0)])
        self.assertEqual(core.tags, ("paraphrase",))

    def test_a_question_that_nothing_answers_is_told_apart_from_one_without_a_label(self):
        row = self.write()[1]
        changed = self.send("patch", f"{self.at}/questions/{row['id']}", {"unanswerable": True})[1]
        self.assertTrue(changed["unanswerable"])
        self.assertFalse(self.asked()[row["text"]].answerable)
        status, said = self.label(row["id"], "reopens")
        self.assertEqual((status, "take the mark away" in said["detail"]), (400, True))
        self.send("patch", f"{self.at}/questions/{row['id']}", {"unanswerable": False})
        self.label(row["id"], "reopens")
        status, said = self.send("patch", f"{self.at}/questions/{row['id']}", {"unanswerable": True})
        self.assertEqual((status, "has answers" in said["detail"]), (400, True))

    def test_grade_0_says_that_no_answer_stands_there_and_counts_for_nothing_else(self):
        row = self.write()[1]
        status, label = self.label(row["id"], "reopens", 0)
        self.assertEqual((status, label["grade"]), (201, 0.0))
        self.assertNotIn(row["text"], self.asked())
        measured(self.workspace)
        shown = self.send("get", f"{self.at}/questions/{row['id']}")[1]
        self.assertEqual([one["id"] for one in shown["no_answers"]], [label["id"]])
        self.assertEqual((shown["spans"], shown["cause"]), ([], None))

    def test_a_range_that_is_judged_again_is_judged_anew(self):
        row = self.write()[1]
        first, second = self.label(row["id"], "reopens", 1)[1], self.label(row["id"], "reopens", 3)[1]
        self.assertEqual((first["id"], second["grade"]), (second["id"], 3.0))

    def test_labels_move_change_their_grade_and_go(self):
        label = self.label(self.write()[1]["id"], "reopens")[1]
        moved = {"document": self.document.pk, "start": 2, "end": 6}
        self.assertEqual(self.send("put", f"{self.at}/labels/{label['id']}", moved)[1]["start"], 2)
        self.assertEqual(self.send("patch", f"{self.at}/labels/{label['id']}", {"grade": 2.5})[1]["grade"], 2.5)
        self.assertEqual(self.send("delete", f"{self.at}/labels/{label['id']}")[0], 204)
        self.assertEqual(self.send("delete", f"{self.at}/labels/{label['id']}")[0], 404)

    def test_what_cannot_be_is_refused_and_nothing_is_changed(self):
        row = self.write()[1]
        before = (Question.objects.count(), AnswerSpan.objects.count(), self.marked())
        length = len(self.document.text)
        place = {"document": self.document.pk, "start": 0, "end": 5}
        for body, wrong in (
            ({**place, "end": length + 1}, f"is not a range within 0 to {length}"),
            ({**place, "end": 0}, "is not a range"),
            ({**place, "end": None}, "is not a range"),
            ({**place, "grade": 4}, "grade: 4 is not between 0 and 3"),
            ({**place, "grade": -1}, "grade: -1 is not between 0 and 3"),
        ):
            status, said = self.send("post", f"{self.at}/questions/{row['id']}/labels", body)
            self.assertEqual(status, 400, body)
            self.assertIn(wrong, said["detail"])
        for body, wrong in (
            ({"text": "  \n "}, "blank"),
            ({"text": row["text"].replace(" ", "  ")}, "has this question already"),
            ({"text": "x" * 2001}, "at most 2000"),
            ({"text": "y", "tags": ["t" * 61]}, "1 to 60 characters"),
            ({"text": "y", "set": 0}, "no question set"),
        ):
            status, said = self.send("post", f"{self.at}/questions", body)
            self.assertEqual(status, 400, body)
            self.assertIn(wrong, said["detail"])
        self.assertEqual((Question.objects.count(), AnswerSpan.objects.count(), self.marked()), before)

    def test_labels_of_another_workspace_are_not_found(self):
        other, _ = make_workspace("Elsewhere")
        span = AnswerSpan.objects.filter(question__workspace=other).first()
        self.assertEqual(self.send("delete", f"{self.at}/labels/{span.pk}")[0], 404)
        body = {"document": span.document_id, "start": 0, "end": 4}
        own = self.workspace.questions.first().pk
        self.assertEqual(self.send("post", f"{self.at}/questions/{own}/labels", body)[0], 404)

    def marked(self):
        return Workspace.objects.get(pk=self.workspace.pk).marked

    def test_a_trial_stands_for_the_labels_that_it_was_measured_with_and_is_kept(self):
        saved, trial = measured(self.workspace)
        delivered = self.send("get", f"{self.at}/line")[1]["delivered"]
        self.write()
        line = self.send("get", f"{self.at}/line")[1]
        self.assertEqual((line["trial"], line["delivered"]), (None, delivered), "the last levels stand, greyed")
        self.assertIsNotNone(line["earlier"])
        self.assertTrue(TrialRecord.objects.filter(pk=trial.pk).exists())
        saved.refresh_from_db()
        again = measure_recipe(saved, Silent())
        saved.workspace.refresh_from_db()
        self.assertEqual(latest_trial(saved).pk, again.pk)

    def test_a_removed_question_can_be_written_again_from_history(self):
        question = self.workspace.questions.get(identity="q2")
        text = question.text
        self.assertEqual(self.send("delete", f"{self.at}/questions/{question.pk}")[0], 204)
        self.assertNotIn(text, self.asked())
        was = Event.objects.filter(kind="question removed").get().about["was"]
        self.assertEqual((was["text"], len(was["labels"]), was["labels"][0]["grade"]), (text, 1, 2.0))
        row = self.write(was["text"], tags=was["tags"])[1]
        for one in was["labels"]:
            body = {name: one[name] for name in ("document", "start", "end", "grade")}
            self.send("post", f"{self.at}/questions/{row['id']}/labels", body)
        self.assertEqual([span.grade for span in self.asked()[text].spans], [2.0])


class Sets(Sending, TestCase):
    def setUp(self):
        self.workspace, self.user = make_workspace()
        self.client.force_login(self.user)
        self.at = f"/api/workspaces/{self.workspace.pk}"

    def test_sets_are_made_filled_and_left_out_of_trials(self):
        first = self.send("get", f"{self.at}/question-sets")[1][0]
        self.assertEqual((first["name"], first["questions"], first["labelled"], first["measured"]),
                         ("Questions", 4, 4, True))  # fmt: skip
        status, second = self.send("post", f"{self.at}/question-sets", {"name": "Hard ones", "note": "by hand"})
        self.assertEqual((status, second["questions"]), (201, 0))
        row = self.send("post", f"{self.at}/questions", {"text": "Is it safe?", "set": second["id"]})[1]
        self.send("patch", f"{self.at}/questions/{row['id']}", {"unanswerable": True})
        self.assertEqual(len(core_questions(self.workspace)), 5)
        before = Workspace.objects.get(pk=self.workspace.pk).marked
        self.send("patch", f"{self.at}/question-sets/{second['id']}", {"measured": False})
        self.assertEqual(len(core_questions(self.workspace)), 4)
        self.assertEqual(Workspace.objects.get(pk=self.workspace.pk).marked, before + 1)
        self.send("patch", f"{self.at}/question-sets/{second['id']}", {"note": "later"})
        self.assertEqual(Workspace.objects.get(pk=self.workspace.pk).marked, before + 1, "a note outdates nothing")

    def test_the_same_words_may_stand_in_two_sets_and_names_of_sets_once(self):
        second = self.send("post", f"{self.at}/question-sets", {"name": "Again"})[1]["id"]
        text = self.workspace.questions.first().text
        self.assertEqual(self.send("post", f"{self.at}/questions", {"text": text, "set": second})[0], 201)
        self.assertEqual(self.send("post", f"{self.at}/questions", {"text": text})[0], 400)
        status, said = self.send("post", f"{self.at}/question-sets", {"name": "Again"})
        self.assertEqual((status, "another set's" in said["detail"]), (400, True))

    def test_a_removed_set_takes_its_questions_along(self):
        number = self.workspace.question_sets.get().pk
        self.assertEqual(self.send("delete", f"{self.at}/question-sets/{number}")[0], 204)
        self.assertEqual((self.workspace.questions.count(), AnswerSpan.objects.count()), (0, 0))


class History(Sending, TestCase):
    """What was done is found again, and taken back where things are still as it left them."""

    def setUp(self):
        self.workspace, self.user = make_workspace()
        self.client.force_login(self.user)
        self.at = f"/api/workspaces/{self.workspace.pk}"
        self.document = self.workspace.documents.get(name="wind.md")
        self.question = Question.objects.get(identity="q4")
        self.send("patch", f"{self.at}/questions/{self.question.pk}", {"unanswerable": False})

    def label(self, grade=2.0, start=0):
        body = {"document": self.document.pk, "start": start, "end": start + 9, "grade": grade}
        return self.send("post", f"{self.at}/questions/{self.question.pk}/labels", body)[1]["id"]

    def events(self, query=""):
        return self.send("get", f"{self.at}/events{query}")[1]

    def back(self, place=0):
        event = self.events()["events"][place]["id"]
        return self.send("post", f"{self.at}/events/{event}/taken-back")

    def grades(self):
        return list(self.question.spans.order_by("start").values_list("start", "end", "grade"))

    def test_labels_come_back_as_they_were(self):
        self.label(2.0)
        self.label(3.0)
        self.assertEqual(self.back()[0], 204)
        self.assertEqual(self.grades(), [(0, 9, 2.0)])
        label = self.question.spans.get()
        self.send("put", f"{self.at}/labels/{label.pk}", {"document": self.document.pk, "start": 4, "end": 20})
        self.back()
        self.assertEqual(self.grades(), [(0, 9, 2.0)])
        self.send("delete", f"{self.at}/labels/{label.pk}")
        self.back()
        self.assertEqual(self.grades(), [(0, 9, 2.0)])

    def test_a_question_comes_back_with_its_id_set_group_and_labels(self):
        self.label()
        self.send("patch", f"{self.at}/questions/{self.question.pk}", {"group": "owners", "tags": ["one"]})
        self.send("delete", f"{self.at}/questions/{self.question.pk}")
        self.assertEqual(self.back()[0], 204)
        again = Question.objects.get(identity="q4")
        self.assertEqual((again.group, again.tags, again.set), ("owners", ["one"], self.question.set))
        self.assertEqual(again.spans.get().grade, 2.0)

    def test_what_has_changed_since_is_not_taken_back_and_nothing_is_twice(self):
        self.label(2.0)
        self.send("patch", f"{self.at}/labels/{self.question.spans.get().pk}", {"grade": 1})
        status, said = self.back(1)
        self.assertEqual((status, "changed or removed since" in said["detail"]), (400, True))
        self.assertEqual(self.back(0)[0], 204)
        status, said = self.send("post", f"{self.at}/events/{Event.objects.get(kind='label changed').pk}/taken-back")
        self.assertEqual((status, "taken back already" in said["detail"]), (400, True))
        self.assertIn("cannot be taken back", self.back(0)[1]["detail"])

    def test_an_outline_and_the_recipe_in_force_go_back_to_what_they_were(self):
        first = self.send("post", f"{self.at}/recipes/save", {"body": recipe().body, "note": ""})[1]["recipe"]["id"]
        body = recipe(select={"k": 3}).body
        self.send("post", f"{self.at}/recipes/save", {"body": body, "note": "fewer"})
        self.assertEqual(self.back()[0], 204)
        self.assertEqual(self.workspace.recipes.get(in_force=True).pk, first)
        digest = self.document.digest
        start = self.document.sections.first().start
        correction = {"start": start, "action": "level", "value": 3}
        status, _ = self.send("post", f"{self.at}/documents/{self.document.pk}/outline", correction)
        self.assertEqual(status, 200)
        self.document.refresh_from_db()
        self.assertNotEqual(self.document.digest, digest)
        self.back()
        self.document.refresh_from_db()
        self.assertEqual((self.document.digest, self.document.corrections), (digest, []))

    def test_it_is_looked_through_by_person_kind_words_and_day(self):
        self.label()
        found = self.events(f"?who={self.user.username}&kind=label given&words=wind.md q4&since=2020-01-01")
        (event,) = found["events"]
        self.assertEqual((event["kind"], event["can_be_taken_back"]), ("label given", True))
        self.assertEqual(found["people"], [self.user.username])
        self.assertIn("question changed", found["kinds"])
        for query in ("?who=nobody", "?kind=none", "?words=snow", "?since=2999-01-01"):
            self.assertEqual(self.events(query)["events"], [])
