"""Questions as a whole: sets and files, suggestions, what is asked about, and judging."""

import tempfile
from pathlib import Path

from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from doppio.library.carrying import pack
from doppio.library.models import Workspace
from doppio.questions.models import AnswerSpan, Question, QuestionSet
from doppio.trials.models import Judgement, Pool
from tests.browser.page import Page
from tests.browser.prepared import SMALL

ROWS = (
    "Frage,Datei,Zitat\nMay my dog ride?,dogs.html,dogs ride\nWhat of Snow?,ice-and-snow.md,snow\nLost?,nowhere.md,\n"
)


class QuestionsPage(Page):
    prepared, fresh = SMALL, True

    def test_a_file_of_questions_is_mapped_mended_and_imported_into_a_set_of_its_own(self):
        self.open("/questions/sets")
        self.see("20", "[data-set='Questions']")
        self.click("button", "Import questions")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "from the desk.csv"
            path.write_text(ROWS)
            self.one("#question-file").send_keys(str(path))
            self.see("What the columns are", ".import-questions")
            for column, name in (("question", "Frage"), ("document", "Datei"), ("quote", "Zitat")):
                Select(self.one(f"#column-{column}")).select_by_visible_text(name)
                self.until(lambda _, c=column, n=name: self.one(f"#column-{c}").get_attribute("value") == n)
            Select(self.one("#into-set")).select_by_visible_text("a new one")
            self.see("'nowhere.md' is not among the documents", ".wrong-lines")
            self.see("in several places", ".import-questions")
            self.click(".doubt .form-check-input")
            self.click(".import-questions button", "and leave out")
            self.see("Imported: 3 new questions", ".import-questions")
        self.click(".import-questions .btn-close")
        self.see("1 wait", "[data-set='from the desk']")
        made = QuestionSet.objects.get(name="from the desk")
        self.assertEqual(made.questions.count(), 3)
        self.click("[data-set='from the desk'] .form-check-input")
        self.until(lambda _: not QuestionSet.objects.get(pk=made.pk).measured)
        self.click("[data-set='from the desk'] .btn-outline-danger")
        self.click("[data-set='from the desk'] .btn-outline-danger", "Remove 3 questions")
        self.until(lambda _: not QuestionSet.objects.filter(pk=made.pk).exists())

    def test_suggestions_are_taken_reworded_refused_and_taken_back_by_keys(self):
        self.open("/questions/suggested")
        before = Question.objects.count()
        first = self.text(".suggestion[aria-current] strong")
        self.keys("a")
        self.see("1 accepted", ".keys")
        self.assertTrue(Question.objects.filter(text=first).exists())
        self.keys("w")
        field = self.one("[aria-label='In other words']")
        field.send_keys(Keys.CONTROL, "a")
        field.send_keys("What did the desk mean?", Keys.ENTER)
        self.see("2 accepted", ".keys")
        self.keys("x")
        self.one(".suggestion.refused")
        self.keys("u")
        self.until(lambda _: not self.all(".suggestion.refused"))
        self.keys("u")
        self.see("1 accepted", ".keys")
        self.assertEqual(Question.objects.count(), before + 1)
        self.click(".parts a", "Coverage")
        self.see("documents and", ".coverage-map")
        self.one(".covered[data-document] [data-answers='0']")
        self.one(".covered[data-document] [data-answers='1']")
        self.click(".covered[data-document] a")
        self.one(".open-document")

    def test_a_pool_is_made_and_judged_by_keys_with_undo_and_the_document_at_hand(self):
        self.open("/questions/judging")
        self.click("button", "Make the pool")
        self.work()
        self.click("[data-pool='Pool 1'] button", "Judge")
        pool = Pool.objects.get()
        shown = self.text(".judge-pool h2")
        self.keys("2")
        self.see("all saved", ".judge-pool")
        judged = Judgement.objects.get()
        self.assertEqual((judged.item.question.text, judged.grade), (shown, 2.0))
        self.assertEqual(AnswerSpan.objects.get(pk=judged.item.label_id).grade, 2.0)
        self.keys("d")
        self.one(".in-document mark.focus")
        self.assertFalse(self.all(".in-document mark.answer"))
        self.keys("d")
        for key in "0130":
            self.keys(key)
        self.see(f"5 of {pool.items.count()}", ".judge-pool")
        self.see("all saved", ".judge-pool")
        self.assertEqual(Judgement.objects.count(), 5)
        self.keys("u")
        self.see(f"4 of {pool.items.count()}", ".judge-pool")
        self.until(lambda _: Judgement.objects.count() == 4)
        self.click("a", "All pools")
        self.see("Go on judging", "[data-pool='Pool 1']")
        self.click("[data-pool='Pool 1'] button", "Agreement")
        self.see("needs a second one", ".modal")

    def test_the_history_says_who_did_what_and_takes_it_back(self):
        self.open("/questions/suggested")
        self.keys("x")
        self.one(".suggestion.refused")
        self.click(".parts a", "Sets")
        self.click("[data-set='Questions'] .form-check-input")
        self.until(lambda _: not QuestionSet.objects.get().measured)
        self.click(".workspace-name")
        self.click(".dropdown-item", "History")
        self.see("measured yes", "[data-event='question set changed']")
        self.see("suggestion refused", ".history table")
        self.click("[data-event='question set changed'] button", "take back")
        self.see("taken back by", "[data-event='question set changed']")
        self.assertTrue(QuestionSet.objects.get().measured)
        Select(self.one("[aria-label='What']")).select_by_visible_text("suggestion refused")
        self.until(lambda _: not self.all("[data-event='question set changed']"))

    def test_a_workspace_is_copied_emptied_and_read_from_a_file(self):
        own = Workspace.objects.get()
        self.open("/questions/sets")
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "away.zip"
            pack(own, path)
            self.click(".workspace-name")
            self.click(".dropdown-item", "Members and settings")
            self.one("[aria-label='Name of the copy']").send_keys("Trial grounds", Keys.ENTER)
            self.see("Trial grounds", ".workspace-name")
            self.see("12 documents, 20 questions", "header")
            self.click(".workspace-name")
            self.click(".dropdown-item", "Members and settings")
            self.click(".modal button", "Empty")
            self.click(".modal button", "Empty it of all that it holds")
            self.see("Nothing is here yet", ".begin")
            self.see("Trial grounds", ".workspace-name")
            self.click(".workspace-name")
            self.click(".dropdown-item", "New workspace")
            self.one("#workspace-file").send_keys(str(path))
            self.see(f"{own.name} (2)", ".workspace-name")
            self.see("20 questions", "header")
        # The copy that was emptied is kept for a week.
        self.assertEqual(Workspace.objects.filter(removed_at=None).count(), 3)
        self.assertEqual(Workspace.objects.count(), 4)
