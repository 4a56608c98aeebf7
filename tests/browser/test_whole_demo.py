"""The whole demo in the browser: figures that only all of its questions make, and every stage view."""

from selenium.webdriver.support.ui import Select

from doppio.recipes.models import RecipeVersion
from tests.browser.page import GALE, Page
from tests.browser.prepared import WHOLE


class WholeDemo(Page):
    """120 documents, 174 questions, three recipes; nothing is changed."""

    prepared = WHOLE

    def test_the_line_shows_seven_stages_and_adds_up(self):
        self.open("/line/fused")
        self.until(lambda _: len(self.all(".gauge")) == 7)
        self.assertEqual([block.get_attribute("data-stage") for block in self.all(".stage")],
                         ["documents", "chunks", "sparse", "dense", "fused", "reranked", "context"])  # fmt: skip
        delivered = int(self.one(".delivered").get_attribute("data-delivered"))
        self.assertIn(f"{delivered} of 158", self.text("[data-stage=context]"))
        self.assertGreaterEqual(delivered, 135)

    def test_every_stage_view_shows_the_pinned_question(self):
        number = self.number(GALE)
        for stage, seen in {
            "documents": "Operation of line B ceases when the mean speed at any tower",
            "chunks": "touch",
            "sparse": "Why it is there",
            "dense": "Nearest 50 chunks",
            "fused": "first relevant chunk at",
            "reranked": "darker adds more to the score",
            "context": "of 1,500 tokens",
        }.items():
            with self.subTest(stage):
                self.open(f"/line/{stage}?q={number}")
                self.see(seen, ".view")
                self.see(GALE, ".view")
        self.assertFalse(self.all("[role=alert]"))

    def test_every_stage_view_shows_the_stage_as_a_whole(self):
        for stage, seen in {
            "documents": "Alarm codes",
            "chunks": "answers not whole",
            "sparse": "Commonest codes",
            "dense": "nearest neighbour",
            "fused": "The shipped mix was chosen like this",
            "reranked": "Question and passage are still encoded apart",
            "context": "No answer exists, yet passages were packed",
        }.items():
            with self.subTest(stage):
                self.open(f"/line/{stage}")
                self.see(seen, ".view")

    def test_the_rank_flow_marks_the_answer_and_tells_the_sum(self):
        self.open(f"/line/fused?q={self.number(GALE)}")
        self.until(lambda _: len(self.all("path.thread.relevant")) == 2)
        nodes = self.all("[data-lane=fused]")
        self.assertEqual(len(nodes), 20)
        nodes[0].click()
        self.see("fused at 1:", ".card-passage")
        self.assertIn("gives", self.text(".card-passage"))

    def test_the_trials_page_compares_recipes(self):
        self.open("/trials")
        self.one("[data-trial='sparse alone']")
        self.assertEqual(len(self.all("[data-trial]")), 3)
        self.assertEqual(len(self.all(".ledger-strip")), 3)
        self.see("wrongly filled", ".trials")
        before = self.text("[data-trial='dense alone']")
        Select(self.one("[aria-label='Measured after']")).select_by_value("dense")
        self.until(lambda _: self.text("[data-trial='two-branch']") != before)
        self.assertIn("–", self.text("[data-trial='sparse alone']"))

    def test_recipes_are_compared_with_a_baseline_and_question_by_question(self):
        self.open("/trials")
        self.until(lambda _: len(self.all("[data-compared]")) == 3)
        worst = self.text("[data-compared='sparse alone v1']")
        self.assertRegex(worst, r"−[.\d]+ (worse, p|within noise)")
        self.see("the baseline", ".compared tr.base")
        self.see("So many questions find a true difference of", ".compared")
        Select(self.one("[aria-label='Compared by']")).select_by_value("mrr")
        self.until(lambda _: self.text("[data-compared='sparse alone v1']") != worst)
        base = Select(self.one("[aria-label='Baseline']"))
        base.select_by_visible_text("dense alone v1")
        self.until(lambda _: "the baseline" in self.text("[data-compared='dense alone v1']"))
        Select(self.one("[aria-label='Cost']")).select_by_value("bytes")
        self.see("indexes on disk", ".against-cost")
        self.click("[aria-label$='sparse alone v1, question by question']", ":")
        self.until(lambda _: len(self.all(".versus")) > 20)
        self.see("dense alone", ".pairs h2")
        self.until(lambda _: len(self.all(".pairs-flows [aria-label='Rank flow']")) == 2)
        first = self.text(".versus.chosen .versus-text")
        self.click(".pairs-list button", "worse")
        self.until(lambda _: all("−" in row.text for row in self.all(".versus-change")))
        self.all(".versus")[1].click()
        self.until(lambda _: self.text(".pairs-both h3") != first)
        self.click(".pairs-both a", "Pin it")
        self.until(lambda _: "/line/context?q=" in self.driver.current_url)

    def test_a_lost_question_says_why_and_what_would_have_brought_its_answer_in(self):
        trial = RecipeVersion.objects.get(in_force=True).trials.first()
        lost = trial.rows.filter(cause="lost in fusion").first().question_id
        self.open(f"/line/fused?q={lost}")
        self.click(".head button", "Why not?")
        self.see("last that goes on", ".why-not")
        told = self.text(".why-not .left-here")
        self.assertRegex(told, r"^fused \d+ ")
        self.assertRegex(self.text(".why-not"), "alone would have brought it in|No single weight")
        self.breaks_no_rule("why not")
        self.click(".btn-close")
        self.until(lambda _: not self.all(".modal.show"))
        node = self.all("[data-lane=fused]")[15]
        self.driver.execute_script("arguments[0].dispatchEvent(new MouseEvent('click', {bubbles: true}))", node)
        self.click(".card-passage button", "Why is it not handed on?")
        self.see("beyond what goes on", ".why-not")

    def test_a_hit_shows_its_terms_and_their_sum(self):
        self.open(f"/line/sparse?q={self.number('What does alarm E-417 mean?')}")
        hits = self.until(lambda _: self.all(".hit"))
        self.assertEqual(len(hits), 20)
        hits[1].click()
        self.until(lambda _: self.all(".hit")[1].get_attribute("aria-pressed") == "true")
        shown = self.one(".card-passage").get_attribute("data-passage")
        self.assertEqual(shown, hits[1].get_attribute("data-chunk"))
        self.until(lambda _: any(mark.text == "E-417" for mark in self.all("mark.term")))
        rows = self.all(".view table tbody tr")
        self.assertEqual(rows[-1].text.split()[0], "Score")
        score = hits[1].text.split("\n")[2]
        self.assertEqual(rows[-1].text.split()[1], score)

    def test_the_reranked_list_says_what_moved(self):
        self.open(f"/line/reranked?q={self.number(GALE)}")
        self.click(".segments button", "list")
        self.until(lambda _: len(self.all(".hit")) == 20)
        self.assertIn("goes on", self.all(".hit")[0].text)
        self.assertIn("beyond what goes on", self.all(".hit")[19].text)
        self.until(lambda _: self.all("mark.token"))

    def test_metadata_narrow_the_list(self):
        self.open("/line/documents")
        Select(self.one("[aria-label=Metadata]")).select_by_value("minutes_stopped")
        Select(self.one("[aria-label=Comparison]")).select_by_value("from")
        Select(self.one("[aria-label=Value]")).select_by_value("21")
        self.see("3 of 120 documents", ".document-list")
