"""Reports of trials: what stands in them, that they fetch nothing, and that a PDF holds the same text."""

import io
import re

import pypdfium2
from django.test import TestCase

from doppio.questions.models import Question
from tests.server.workspace import make_workspace, measured


class Reports(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.space, cls.user = make_workspace("Reported")
        cls.recipe, cls.trial = measured(cls.space, rerank=None)
        cls.other, cls.second = measured(cls.space, rerank=None, select={"k": 1, "budget_tokens": 100})

    def setUp(self):
        self.client.force_login(self.user)

    def get(self, status=200, trial=None, **given):
        path = f"/api/workspaces/{self.space.pk}/trials/{(trial or self.trial).pk}/report"
        answer = self.client.get(path, given)
        self.assertEqual(answer.status_code, status, answer.content[:300])
        return answer

    def test_a_page_says_all_and_needs_nothing_else(self):
        answer = self.get(against=self.second.pk)
        text = answer.content.decode()
        name = f"{self.recipe.name}-v{self.recipe.version}-trial-{self.trial.pk}.html".replace(" ", "-")
        self.assertEqual(answer["Content-Disposition"], f'attachment; filename="{name}"')
        delivered, answerable = self.trial.ledger["delivered"], self.trial.answerable
        self.assertIn(f"{delivered} of {answerable}", text)
        for told in ("Against", self.trial.corpus, self.trial.origin["code"], "&quot;budget_tokens&quot;"):
            self.assertIn(told, text)
        lost = [row.question.text for row in self.trial.rows.exclude(cause__in=("delivered", "rightly empty"))]
        for question in lost:
            self.assertIn(question, text)
        # Nothing is linked to, run or fetched.
        self.assertEqual(re.findall(r"<script|src=|href=|url\(|@import", text), [])

    def test_what_people_wrote_is_shown_and_not_run(self):
        Question.objects.filter(identity="q4").update(text="<script>alert(1)</script> & more")
        self.trial.rows.filter(question__identity="q4").update(cause="wrongly filled")
        text = self.get().content.decode()
        self.assertIn("&lt;script&gt;alert(1)&lt;/script&gt; &amp; more", text)
        self.assertNotIn("<script>", text)

    def test_a_pdf_holds_the_same_text(self):
        Question.objects.filter(identity="q4").update(text="Žluťoučký kůň, μετρό и канатная дорога?")
        self.trial.rows.filter(question__identity="q4").update(cause="wrongly filled")
        with self.assertNoLogs("weasyprint", "WARNING"):
            answer = self.get(form="pdf")
        self.assertEqual(answer["Content-Type"], "application/pdf")
        document = pypdfium2.PdfDocument(io.BytesIO(answer.content))
        text = " ".join(page.get_textpage().get_text_range() for page in document)
        code = self.trial.origin["code"].split()[-1]
        for told in ("Where questions end", "Žluťoučký kůň", "μετρό", "канатная", code):
            self.assertIn(told, text)

    def test_what_is_wrong_is_told(self):
        self.assertIn("neither html nor pdf", self.get(400, form="doc").json()["detail"])
        self.assertIn("not the number of a trial", self.get(400, against="x").json()["detail"])
        self.get(404, against=10**9)
        _, user = make_workspace("Strange")
        self.client.force_login(user)
        self.get(404)
