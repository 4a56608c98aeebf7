"""Pages by patches in the browser: the page that was found is shaded where it answers the words of the question."""

from selenium.webdriver.common.actions.action_builder import ActionBuilder

from doppio.core.formats.bounded import BoundedReader
from doppio.core.progress import Silent
from doppio.library.intake import take_file
from doppio.library.models import Workspace
from doppio.questions.models import Question
from doppio.recipes.services import save_recipe
from doppio.trials.services import measure_recipe
from tests.browser.page import GALE, Page
from tests.browser.prepared import SMALL
from tests.core.corpus import recipe
from tests.core.made_files import make_pdf
from tests.core.test_patches import PAGES


class Patches(Page):
    prepared, fresh = SMALL, True

    def test_a_page_is_shaded_where_it_answers_and_a_word_alone_where_it_stands(self):
        workspace = Workspace.objects.get()
        with BoundedReader() as reader:
            take_file(workspace, "lent.pdf", make_pdf(PAGES["dogs.pdf"]), reader)
        branches = [{"id": "sparse", "kind": "bm25"}, {"id": "pages", "kind": "patches"}]
        chunking = {"rule": "pages", "unit": "tokens", "size": 400}
        measure_recipe(
            save_recipe(workspace, recipe(chunking=chunking, branches=branches, rerank=None).body), Silent()
        )
        self.open("/line/dense?ask=muzzles lent against a deposit")
        page = self.one(".shaded-page img[alt='Page 2']")
        self.until(lambda d: d.execute_script("return arguments[0].naturalWidth", page) > 600, "the page")
        dark = len(self.all(".shaded-page rect"))
        self.assertGreaterEqual(dark, 2)
        self.click(".shaded-word", "deposit")
        self.until(lambda _: self.one(".shaded-word", "deposit").get_attribute("aria-pressed") == "true")
        opacity = [float(one.get_attribute("fill-opacity")) for one in self.all(".shaded-page rect")]
        darkest = self.all(".shaded-page rect")[opacity.index(max(opacity))]
        # It is the last word of the only line, at the top of the page.
        self.assertLess(float(darkest.get_attribute("y")), 0.1)
        others = [float(one.get_attribute("x")) for one in self.all(".shaded-page rect")]
        self.assertEqual(float(darkest.get_attribute("x")), max(others))
        self.breaks_no_rule("a shaded page")

    def test_a_part_of_a_page_is_labelled_as_the_answer_and_seen_on_it(self):
        workspace, question = Workspace.objects.get(), Question.objects.get(text=GALE)
        with BoundedReader() as reader:
            take_file(workspace, "lent.pdf", make_pdf(PAGES["dogs.pdf"]), reader)
        self.open(f"/line/documents?q={question.pk}")
        self.keys("g")
        self.one(".label-bar")
        self.retype(self.one("[aria-label='Title or file name']"), "lent.pdf")
        self.click(".hit", "lent.pdf")
        self.click(".segments button", "Page")
        page = self.one(".page-picture img")
        self.until(lambda d: d.execute_script("return arguments[0].naturalWidth", page) > 600, "the page")
        # The only line stands at the top: what is dragged over is its first half.
        box = self.driver.execute_script("return arguments[0].getBoundingClientRect()", page)
        drag = ActionBuilder(self.driver)
        drag.pointer_action.move_to_location(int(box["x"] + 8), int(box["y"] + 8)).pointer_down()
        drag.pointer_action.move_to_location(int(box["x"] + 0.3 * box["width"]), int(box["y"] + 0.12 * box["width"]))
        drag.pointer_action.pointer_up()
        drag.perform()
        self.click("button", "This part answers")
        self.see("Saved as an answer of grade 2", ".label-bar")
        span = question.spans.get(document__name="lent.pdf")
        self.assertTrue(PAGES["dogs.pdf"][0][0].startswith(span.document.text[span.start : span.end]))
        self.assertGreater(span.end, span.start + 4)
        self.until(lambda _: self.all(".page-marks rect"), "the answer on the page")
