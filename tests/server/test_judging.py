"""Suggestions, coverage and pools: what people are shown, what comes of what they say, and what they must not see."""

from django.contrib.auth.models import User
from django.core.management import call_command
from django.test import Client, TestCase

from doppio.library.models import Membership, Role
from doppio.questions.models import AnswerSpan, Question
from doppio.trials.models import Judgement, Pool
from tests.server.committed import Committed
from tests.server.test_workspaces import Sending
from tests.server.workspace import make_workspace, measured


class Suggested(Sending, TestCase):
    def setUp(self):
        self.workspace, self.user = make_workspace()
        self.client.force_login(self.user)
        self.at = f"/api/workspaces/{self.workspace.pk}"

    def suggestions(self, query=""):
        return self.send("get", f"{self.at}/suggestions{query}")[1]

    def decide(self, one, words):
        body = {name: one[name] for name in ("document", "rule", "text", "start", "end")}
        return self.send("post", f"{self.at}/suggestions", {**body, "words": words})

    def test_documents_that_nobody_asks_about_come_first_and_each_shows_its_answer(self):
        found = self.suggestions()
        self.assertGreater(len(found), 3)
        asked = [one["asked"] for one in found]
        self.assertEqual(asked, sorted(asked))
        texts = dict(self.workspace.documents.values_list("pk", "text"))
        for one in found:
            self.assertEqual(texts[one["document"]][one["start"] : one["end"]], one["answer"])

    def test_one_that_is_accepted_is_a_question_with_its_answer_and_one_that_is_refused_is_gone(self):
        before = self.workspace.questions.count()
        first, second, third = self.suggestions()[:3]
        status, made = self.decide(first, first["text"])
        self.assertEqual(status, 201)
        row = Question.objects.get(pk=made["question"])
        self.assertEqual((row.text, row.spans.get().start), (first["text"], first["start"]))
        made = self.decide(second, "In other words?")[1]
        self.assertEqual(Question.objects.get(pk=made["question"]).text, "In other words?")
        self.assertIsNone(self.decide(third, None)[1]["question"])
        self.assertEqual(self.workspace.questions.count(), before + 2)
        left = {(one["document"], one["text"]) for one in self.suggestions("?count=50")}
        self.assertFalse(left & {(one["document"], one["text"]) for one in (first, second, third)})
        self.assertEqual(self.decide(first, first["text"])[0], 400)

    def test_a_decision_is_taken_back_with_its_question(self):
        before = self.workspace.questions.count()
        first = self.suggestions()[0]
        self.decide(first, first["text"])
        back = {"document": first["document"], "text": first["text"]}
        self.assertEqual(self.send("put", f"{self.at}/suggestions", back)[0], 204)
        self.assertEqual(self.workspace.questions.count(), before)
        self.assertIn(first["text"], [one["text"] for one in self.suggestions()])

    def test_coverage_counts_where_answers_begin(self):
        rows = self.send("get", f"{self.at}/question-coverage")[1]
        wind = next(row for row in rows if row["title"].startswith("Wind"))
        span = AnswerSpan.objects.get(document=wind["id"])
        for row in rows:
            self.assertEqual(sum(s["end"] - s["start"] for s in row["sections"]), row["length"])
            self.assertEqual(row["answers"], AnswerSpan.objects.filter(document=row["id"]).count())
        inside = [s for s in wind["sections"] if s["answers"]]
        self.assertEqual(len(inside), 1)
        self.assertTrue(inside[0]["start"] <= span.start < inside[0]["end"])
        later = self.send("get", f"{self.at}/question-coverage?after={rows[0]['id']}")[1]
        self.assertEqual([row["id"] for row in later], [row["id"] for row in rows[1:]])


class Pools(Sending, Committed):
    def setUp(self):
        self.workspace, self.user = make_workspace()
        self.client.force_login(self.user)
        self.at = f"/api/workspaces/{self.workspace.pk}/pools"
        first, _ = measured(self.workspace)
        second, _ = measured(self.workspace, chunking={"rule": "fixed-window", "unit": "words", "size": 12})
        body = {"name": "First look", "recipes": [first.pk, second.pk], "depth": 3}
        status, job = self.send("post", self.at, body)
        self.assertEqual((status, job["state"]), (202, "queued"))
        call_command("work", once=True)
        self.pool = Pool.objects.get()
        self.other = self.judge("second judge")

    def judge(self, name):
        user = User.objects.create_user(name)
        Membership.objects.create(workspace=self.workspace, user=user, role=Role.JUDGE)
        client = Client()
        client.force_login(user)
        return client

    def next(self, client=None, count=50):
        return self.send("get", f"{self.at}/{self.pool.pk}?count={count}", client=client)[1]

    def grade(self, item, grade, client=None, ending=""):
        return self.send("put", f"{self.at}/{self.pool.pk}/items/{item}{ending}", {"grade": grade}, client)[0]

    def test_the_union_of_what_the_recipes_found_is_there_once_and_says_nothing_of_them(self):
        items = list(self.pool.items.select_related("question"))
        # Each recipe brings up to three for each of three questions; what both found is there once.
        self.assertTrue(3 < len(items) <= 18)
        for one in items:
            for other in items:
                if one.pk < other.pk and (one.question_id, one.document_id) == (other.question_id, other.document_id):
                    shared = min(one.end, other.end) - max(one.start, other.start)
                    self.assertLess(shared, 0.8 * max(one.end - one.start, other.end - other.start))
        shown = self.next()
        self.assertEqual(len(shown), len(items))
        self.assertEqual(set(shown[0]), {"id", "question", "text", "document", "title", "start", "end", "passage"})
        covered = [one.covered for one in items]
        self.assertEqual(covered, sorted(covered), "what no label covers comes first")
        self.assertTrue(any(covered))

    def test_a_grade_is_a_label_at_once_and_gone_when_it_is_taken_back(self):
        one = self.next()[0]
        labels = AnswerSpan.objects.filter(question=one["question"], start=one["start"], end=one["end"])
        self.assertEqual(self.grade(one["id"], 2), 204)
        self.assertEqual(labels.get().grade, 2)
        self.assertNotIn(one["id"], [row["id"] for row in self.next()])
        self.assertEqual(self.send("delete", f"{self.at}/{self.pool.pk}/items/{one['id']}")[0], 204)
        self.assertFalse(labels.exists())
        self.assertEqual(self.next()[0]["id"], one["id"])
        self.assertEqual(self.grade(one["id"], 4), 400)
        self.assertFalse(Judgement.objects.exists())

    def test_a_judge_sees_nobodys_grades_and_where_two_differ_a_third_look_settles(self):
        first, second = self.next()[:2]
        for item, own, others in ((first, 3, 0), (second, 1, 1)):
            self.grade(item["id"], own)
            self.assertIn(item["id"], [row["id"] for row in self.next(self.other)])
            self.grade(item["id"], others, self.other)
        label = AnswerSpan.objects.filter(question=first["question"], start=first["start"], end=first["end"])
        self.assertEqual(label.get().grade, 0, "the lower one stands until it is settled")
        self.assertEqual(self.send("get", f"{self.at}/{self.pool.pk}/agreement", client=self.other)[0], 403)
        history = f"/api/workspaces/{self.workspace.pk}/events?kind=passage judged"
        shown = self.send("get", history, client=self.other)[1]
        self.assertEqual({event["name"] for event in shown["events"]}, {"second judge"})
        self.assertEqual(len(self.send("get", history)[1]["events"]), 4)
        found = self.send("get", f"{self.at}/{self.pool.pk}/agreement")[1]
        self.assertEqual([(pair["items"], pair["same"]) for pair in found["pairs"]], [(2, 1)])
        self.assertEqual([one["id"] for one in found["differ"]], [first["id"]])
        self.assertEqual({row["grade"] for row in found["differ"][0]["grades"]}, {0, 3})
        self.assertEqual(self.grade(first["id"], 2, self.other, "/settled"), 403)
        self.assertEqual(self.grade(first["id"], 2, ending="/settled"), 204)
        self.assertEqual(label.get().grade, 2)

    def test_the_list_says_how_far_each_judge_is(self):
        one = self.next()[0]
        self.grade(one["id"], 0, self.other)
        (pool,) = self.send("get", self.at)[1]
        self.assertEqual((pool["own"], pool["items"]), (0, self.pool.items.count()))
        self.assertEqual(pool["judges"], [{"judge": "second judge", "count": 1, "own": False}])

    def test_what_cannot_be_pooled_is_told(self):
        saved, _ = measured(self.workspace, rerank=None)
        body = {"name": "First look", "recipes": [saved.pk]}
        self.assertIn("another pool's", self.send("post", self.at, body)[1]["detail"])
        empty = self.send("post", f"/api/workspaces/{self.workspace.pk}/question-sets", {"name": "Empty"})[1]["id"]
        said = self.send("post", self.at, {"name": "Second", "recipes": [saved.pk], "set": empty})[1]["detail"]
        self.assertIn("holds no question", said)
        self.assertEqual(self.send("delete", f"{self.at}/{self.pool.pk}")[0], 204)
