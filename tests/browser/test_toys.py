"""Kinds from a package beside Doppio, in the browser: a recipe of them is written, built, asked and measured."""

import sys

from selenium.webdriver.common.by import By
from selenium.webdriver.support.ui import Select

from doppio.core import outside
from doppio.recipes.models import RecipeVersion
from tests.browser.page import GALE, Page
from tests.browser.prepared import SMALL
from tests.core.test_toy_kinds import PACKAGE, PLACE


class Toys(Page):
    """Twelve documents and twenty questions, and one toy of every sort."""

    prepared, fresh = SMALL, True

    def setUp(self):
        sys.path.append(str(PLACE))
        self.addCleanup(sys.path.remove, str(PLACE))
        outside.switch_on([PACKAGE])
        self.addCleanup(outside.switch_on, None)
        super().setUp()

    def choose(self, place, title):
        Select(self.one(f"[id='{place}']")).select_by_visible_text(title)

    def test_a_recipe_of_toys_is_written_in_the_editor_built_asked_explained_and_measured(self):
        self.open("/line/fused")
        self.click("button", "Edit recipe")
        self.choose("chunking.rule", f"groups of lines ({PACKAGE})")
        self.retype(self.one("[id='chunking.lines']"), "6")
        self.click("#add-branch")
        self.click(".dropdown-item", "runs of letters")
        self.retype(self.one("[id='branches[2].length']"), "4")
        self.retype(self.one("[id='branches[2].id']"), "letters")
        self.choose("branches[1].structure.kind", f"two bytes a number ({PACKAGE})")
        self.choose("fusion.method", f"best rank in any list ({PACKAGE})")
        self.choose("rerank", "words in common")
        self.retype(self.one("[id='rerank.shortest']"), "99")
        self.choose("select.rule", f"shortest first ({PACKAGE})")
        self.click("button", "Save as new version")
        self.see("rerank.shortest: 99 is not between 1 and 20", ".offcanvas")
        self.retype(self.one("[id='rerank.shortest']"), "4")
        self.see("count runs of letters", ".build-cost")
        self.click("button", "Save as new version")
        self.see("waits for the worker", ".job")
        self.work()
        self.until(lambda _: not self.all(".job"), "the job to end")
        saved = RecipeVersion.objects.get(in_force=True).body
        self.assertEqual((saved["chunking"]["lines"], saved["fusion"]["weights"]["letters"]), (6, 1))
        self.assertEqual([branch["kind"] for branch in saved["branches"]], ["bm25", "vector", "letters"])
        self.open("/line/chunks")
        self.see("groups of lines, up to 160 tokens, overlap 24 tokens, 6 lines", ".view")
        blocks = [block.text.split("\n")[0] for block in self.all(".line .pair .stage")]
        self.assertEqual(blocks, ["sparse", "letters", "Dense"])
        self.open(f"/line/sparse?q={self.number(GALE)}")
        self.click(".segments button", "letters")
        self.see("share of the question's runs of letters", ".view")
        self.until(lambda _: self.all(".view table tbody tr .bar"), "shares of the runs")
        self.open(f"/line/fused?q={self.number(GALE)}")
        lanes = self.text(".flow")
        for name in ("Sparse", "Letters", "Dense", "Fused"):
            self.assertIn(name, lanes)
        self.open(f"/line/reranked?q={self.number(GALE)}")
        self.see("share of the question's words", ".view")
        self.click("header nav a", "Trials")
        self.see("all answers@5", ".trials")
        row = self.one("[data-trial='two-branch']", "v3")
        self.assertRegex(row.find_elements(By.TAG_NAME, "td")[1].text, r"\d+\.\d %")
