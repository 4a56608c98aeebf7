"""What is said beside a question, for this once."""

from django.test import SimpleTestCase, TestCase
from rest_framework.serializers import ValidationError

from doppio.core.formats.question_table import questions_of, read_sheet
from doppio.library.models import Event, Workspace
from doppio.questions.carried import Questions
from doppio.questions.exporting import exported
from doppio.questions.models import QuestionSet
from doppio.questions.sets import make_set
from doppio.stages.asked.beside import read_words
from tests.server.workspace import make_workspace, measured


class Words(SimpleTestCase):
    def test_words_with_their_weights(self):
        told = read_words("gust 1.5, E-417,  tower nine , ,wind 2")
        self.assertEqual(told, {"gust": 1.5, "E-417": 1.0, "tower nine": 1.0, "wind": 2.0})
        for text in ("gust 0", "gust 101", ", ".join(f"w{n}" for n in range(61))):
            with self.assertRaises(ValidationError):
                read_words(text)


class Asked(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.space, cls.user = make_workspace("Beside")
        cls.recipe, _ = measured(cls.space, rerank=None, select={"k": 3, "budget_tokens": 900})
        cls.question = cls.space.questions.filter(unanswerable=False).first()

    def setUp(self):
        self.client.force_login(self.user)

    def get(self, status=200, **given):
        answer = self.client.get(f"/api/workspaces/{self.space.pk}/questions/{self.question.pk}", given)
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def test_conditions_terms_and_wordings_of_an_asker_are_told_in_the_trace(self):
        plain = self.get()
        self.assertIsNone(plain["trace"]["asked"])
        wanted = self.space.documents.order_by("name").first()
        told = self.get(only=f"document is {wanted.name}", words="gust 2, wind", wording=["strong wind", "a storm"])
        before = told["trace"]["asked"]
        self.assertEqual(before["wordings"][0]["words"], {"gust": 2.0, "wind": 1.0})
        self.assertEqual([one["text"] for one in before["wordings"][1:]], ["strong wind", "a storm"])
        self.assertEqual(
            {chunk["document"] for chunk in told["chunks"] if not chunk["relevant"]} - {wanted.pk}, set()
        )
        sparse = told["trace"]["stages"][0]
        answer = self.client.post(
            f"/api/workspaces/{self.space.pk}/stages/sparse/explained",
            {"text": "?", "chunks": plain["trace"]["stages"][0]["chunks"][:1], "words": {"gust": 2.0}},
            "application/json",
        )
        self.assertEqual([term["term"] for row in answer.json() for term in row["terms"]], ["gust"])
        self.assertEqual(sparse["kind"], "branch")

    def test_words_that_a_branch_adds_are_told_and_left_out(self):
        wide = {"id": "wide", "kind": "expanded", "passage_terms": 5, "question_terms": 4}
        fusion = {"method": "scaled-scores", "weights": {"wide": 1}}
        saved, _ = measured(self.space, branches=[wide], fusion=fusion, rerank=None)
        at, own = f"/api/workspaces/{self.space.pk}/stages/sparse", {"recipe": saved.pk}
        index = self.client.get(f"{at}/index", own).json()
        self.assertTrue(index["facts"]["adds"])
        plain = self.get(**own)["trace"]["stages"][0]
        chunk = plain["chunks"][0]
        asked = {"text": self.question.text, "chunks": [chunk], **own}
        [row] = self.client.post(f"{at}/explained", asked, "application/json").json()
        self.assertAlmostEqual(sum(term["share"] for term in row["terms"]), plain["scores"][0], places=4)
        added = [term for term in row["terms"] if term["added_to_question"]]
        self.assertEqual(len(added), 4)
        self.assertEqual({term["in_question"] for term in added}, {0.2})
        given = self.client.get(f"{at}/added/{chunk}", own).json()
        self.assertTrue(given)
        self.assertTrue(all(0 < term["weight"] < 1 for term in given))
        without = ", ".join(term["term"] for term in added)
        [row] = self.client.post(f"{at}/explained", {**asked, "without": without}, "application/json").json()
        self.assertFalse([term for term in row["terms"] if term["added_to_question"]])
        fewer = self.get(**own, without=without)["trace"]["stages"][0]
        scores = dict(zip(fewer["chunks"], fewer["scores"], strict=True))
        self.assertAlmostEqual(sum(term["share"] for term in row["terms"]), scores[chunk], places=4)
        self.assertEqual(self.client.get(f"{at}/added/{chunk}", {"recipe": self.recipe.pk}).json(), [])

    def test_a_typed_question_takes_them_too_and_what_cannot_be_read_is_refused(self):
        path = f"/api/workspaces/{self.space.pk}/ask"
        answer = self.client.post(path, {"text": "When is it stopped?", "only": "title has zzz"}, "application/json")
        self.assertEqual(answer.json()["trace"]["asked"]["allowed"], 0)
        self.assertEqual(answer.json()["handed"]["pieces"], [])
        self.assertIn("write a field", self.get(400, only="edition")["detail"])
        self.assertIn("a weight is above 0", self.get(400, words="gust 0")["detail"])


class KeptConditions(TestCase):
    """Conditions that belong to a question hold wherever it is asked, and go out and in with it."""

    def setUp(self):
        self.space, self.user = make_workspace("Kept")
        self.client.force_login(self.user)
        self.question = self.space.questions.get(identity="q2")
        self.at = f"/api/workspaces/{self.space.pk}"

    def keep(self, only, status=200):
        answer = self.client.patch(f"{self.at}/questions/{self.question.pk}", {"only": only}, "application/json")
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def test_they_hold_in_asking_trials_and_drafts(self):
        recipe, before = measured(self.space, rerank=None, select={"k": 3, "budget_tokens": 900})
        wanted = self.space.documents.get(name="wind.md")
        self.assertEqual(self.keep(" document is wind* ")["only"], "document is wind*")
        asked = self.client.get(f"{self.at}/questions/{self.question.pk}").json()
        self.assertEqual(asked["trace"]["asked"]["conditions"], "document is wind*")
        found = {
            chunk["document"]
            for chunk in asked["chunks"]
            if chunk["number"] in asked["trace"]["stages"][-1]["chunks"]
        }
        self.assertEqual(found, {wanted.pk})
        both = self.client.get(f"{self.at}/questions/{self.question.pk}", {"only": "section has nowhere"}).json()
        self.assertEqual(both["trace"]["asked"]["conditions"], "document is wind*, section has nowhere")
        self.assertEqual(both["trace"]["asked"]["allowed"], 0)
        _, after = measured(self.space, rerank=None, select={"k": 3, "budget_tokens": 900}, name="again")
        causes = {
            trial.pk: {row.question.identity: row.cause for row in trial.rows.select_related("question")}
            for trial in (before, after)
        }
        self.assertEqual(causes[before.pk]["q2"], "delivered")
        self.assertEqual(causes[after.pk]["q2"], "missed by every branch")
        self.assertEqual(causes[before.pk] | {"q2": ""}, causes[after.pk] | {"q2": ""})
        draft = self.client.post(f"{self.at}/drafts", {"body": recipe.body}, "application/json").json()
        self.assertEqual(draft["ledger"], after.ledger)

    def test_what_cannot_be_read_is_refused_and_a_change_is_taken_back(self):
        self.assertIn("only", self.keep("edition", 400)["detail"])
        self.keep("document is wind*")
        self.keep("")
        event = Event.objects.filter(kind="question changed").latest("pk")
        self.assertEqual(event.about["changes"], {"only": ["document is wind*", ""]})
        answer = self.client.post(f"{self.at}/events/{event.pk}/taken-back")
        self.assertLess(answer.status_code, 300, answer.content)
        self.question.refresh_from_db()
        self.assertEqual(self.question.only, "document is wind*")

    def test_files_carry_them(self):
        self.keep("document is wind*, section has rules")
        into = make_set(self.space, "Again")
        for form in ("jsonl", "csv"):
            found = "".join(exported(self.question.set, form))
            asked = questions_of(read_sheet(found.encode(), f"q.{form}"))
            self.assertEqual(asked.wrong, [])
            told = {one.id: one.only for one in asked.questions}
            self.assertEqual({key: only for key, only in told.items() if only},
                             {"q2": "document is wind*, section has rules"})  # fmt: skip
        rows = b'{"id": "n1", "text": "New?", "unanswerable": true, "only": "document"}\n'
        [wrong] = questions_of(read_sheet(rows, "q.jsonl")).wrong
        self.assertEqual(wrong.field, "only")
        self.assertEqual(into.questions.count(), 0)
        carried = list(Questions().rows(self.space))
        self.assertEqual(
            [row["only"] for row in carried if row["identity"] == "q2"], [self.question.only or told["q2"]]
        )
        other = Workspace.objects.create(name="Elsewhere")
        QuestionSet.objects.create(workspace=other, name=self.question.set.name)
        older = [{name: value for name, value in row.items() if name != "only"} | {"labels": []} for row in carried]
        Questions().take(other, iter(older), {})
        self.assertEqual(set(other.questions.values_list("only", flat=True)), {""})
