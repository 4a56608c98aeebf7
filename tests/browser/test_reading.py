"""What a person does without changing any record, on a small corpus."""

import tempfile

from django.contrib.auth.models import User
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from doppio.core.fusion.kind import METHODS
from doppio.library.entry import make_entry_link
from tests.browser.page import GALE, Page
from tests.browser.prepared import SMALL
from tests.core.made_files import RED, make_picture


class Reading(Page):
    """Twelve documents and twenty questions; all tests share them."""

    prepared = SMALL

    def test_keys_open_stages_and_move_the_pin(self):
        self.open("/line/documents")
        self.one(".question")
        self.keys("5")
        self.until(lambda d: "/line/fused" in d.current_url)
        self.keys("j")
        self.until(lambda d: "q=" in d.current_url)
        first = self.driver.current_url
        self.one("[aria-label='Rank flow']")
        self.keys("j")
        self.until(lambda d: d.current_url != first)
        self.keys("k")
        self.until(lambda d: d.current_url == first)
        self.keys("n")
        self.until(lambda d: d.current_url != first)
        self.see("not right", ".drawer")
        self.keys("7")
        self.until(lambda d: "/line/context?q=" in d.current_url)
        self.keys("?")
        self.see("Keys and words", ".modal")
        self.keys(Keys.ESCAPE)
        self.until(lambda _: not self.all(".modal.show"))
        self.keys("/")
        self.until(lambda d: d.switch_to.active_element.get_attribute("id") == "ask")

    def test_a_typed_question_runs_live(self):
        self.open("/line/context")
        box = self.one("#ask")
        box.send_keys("where does my cat ride", Keys.ENTER)
        self.see("Cats, rabbits and birds travel in a carrier", ".view")
        self.see("without a label nothing can be called lost", ".view")

    def test_a_picture_is_asked_by_alone_beside_words_and_no_more(self):
        self.open("/line/fused")
        place = self.enterContext(tempfile.NamedTemporaryFile(suffix=".png"))
        place.write(make_picture(RED))
        place.flush()
        self.one("[aria-label='A picture to ask by']").send_keys(place.name)
        self.see("Asked by this picture alone", ".asked-by")
        self.see("No branch of this recipe looks at pictures", ".view")
        self.breaks_no_rule("asked by a picture")
        self.one("#ask").send_keys("where does my cat ride", Keys.ENTER)
        share = self.one("[aria-label='What the picture counts beside the words']")
        self.see("picture 50 %", ".asked-by")
        share.send_keys(Keys.ARROW_RIGHT)
        self.until(lambda d: "share=0.6" in d.current_url)
        self.keys("7")
        self.until(lambda d: "/line/context" in d.current_url and "picture=" in d.current_url)
        self.see("Cats, rabbits and birds travel in a carrier", ".view")
        self.click(".asked-by button", "Without it")
        self.until(lambda d: "picture=" not in d.current_url)
        self.see("or ask by a picture", ".drawer")

    def test_choosing_a_tag_filters_the_drawer(self):
        self.open("/line/fused")
        Select(self.one("[aria-label=Tag]")).select_by_visible_text("unanswerable")
        self.see("2 of 2 not right", ".drawer")
        self.click(".question", "salary")
        self.see("No document answers it", ".view")

    def test_a_cut_answer_is_a_click_away_from_its_place(self):
        self.open("/line/chunks")
        row = self.one(".problem")
        title = row.text.split("\n")[1].split(";")[0]
        row.click()
        self.until(lambda _: title in Select(self.one("[aria-label=Document]")).first_selected_option.text)
        self.until(lambda _: self.all("mark.cut") and self.all("mark.focus"))
        shown = self.one("mark.focus")
        self.until(lambda d: d.execute_script("const b = arguments[0].getBoundingClientRect(); "
                                              "return b.top > 0 && b.bottom < innerHeight", shown))  # fmt: skip
        self.click("[role=tab]", "mid-sentence")
        self.until(lambda _: len(self.all(".problem")) > 3)

    def test_a_document_is_read_and_leads_to_its_questions(self):
        self.open("/line/documents")
        self.retype(self.one("[aria-label='Title or file name']"), "ice-and-snow")
        self.click(".document-row button", "Ice and snow rules")
        self.see("Salt is never put on a rope", ".reader")
        self.until(lambda _: self.all("mark.answer"))
        self.click(".answers summary")
        self.click(".answers a")
        self.until(lambda d: "q=" in d.current_url)
        self.until(lambda _: self.all("mark.pinned"))
        self.keys(Keys.ESCAPE)
        self.until(lambda d: "q=" not in d.current_url)

    def test_a_recipe_is_edited_as_json_and_its_mistakes_are_told(self):
        self.open("/line/fused")
        self.click("button", "Edit recipe")
        self.click(".offcanvas .segments button", "JSON")
        box = self.one("textarea")
        self.retype(box, "{")
        self.click("button", "Save as new version")
        self.see("Not JSON", ".offcanvas")
        self.retype(box, '{"format": "doppio-recipe/1", "speed": 3}')
        self.click("button", "Save as new version")
        self.see("speed: unknown key; allowed are", ".offcanvas")
        self.click(".offcanvas button", "Drop")
        self.until(lambda _: not self.all(".offcanvas.show"))

    def test_words_are_found_and_pages_stand_beside_the_text(self):
        self.open("/line/documents")
        self.retype(self.one("[aria-label='Title or file name']"), "winter-safety-plan")
        self.click(".document-row button", "Winter safety plan")
        self.one("[aria-label='Find in the text']").send_keys("detonators")
        self.see("1 of 1", ".document-head")
        self.assertEqual(self.text("mark.here"), "detonators")
        self.click(".segments button", "Page")
        self.see("page 2 of", ".page-picture")
        picture = self.one(".page-picture img")
        self.until(lambda d: d.execute_script("return arguments[0].naturalWidth", picture) > 600)

    def test_the_map_leads_from_chunk_to_chunk_and_pairs_follow_the_bar(self):
        self.open(f"/line/dense?q={self.number(GALE)}")
        self.click("button", "Map")
        self.until(lambda _: self.all("[data-spot]"))
        self.assertTrue(self.all(".spot.answer"))
        before = self.text(".neighbours .card-passage")
        self.all(".neighbours .hit")[0].click()
        self.until(lambda _: self.text(".neighbours .card-passage") != before)
        self.open("/line/dense")
        self.click("button", "Near-identical chunks")
        self.until(lambda _: self.one("[data-pairs]").get_attribute("data-pairs") not in ("", None))
        few = int(self.one("[data-pairs]").get_attribute("data-pairs"))
        self.one("#above").send_keys(Keys.ARROW_LEFT * 8)
        self.until(lambda _: int(self.one("[data-pairs]").get_attribute("data-pairs") or 0) > few)

    def test_the_playground_shows_each_step_as_settings_move(self):
        self.open("/line/sparse")
        self.click("button", "Analysis playground")
        self.retype(self.one("[aria-label='Text to analyse']"), "The gondolas at E-417")
        self.see("e-417", "[data-token='E-417']")
        self.see("stop word", "[data-token=The]")
        self.one("#analysis-stem").click()
        self.until(lambda _: "gondolas" in self.text("[data-token=gondolas] .term-chip"))
        self.see("in the index as it is built now", ".steps")

    def test_what_a_build_costs_is_said_before_it_starts(self):
        self.open("/line/fused")
        self.click("button", "Edit recipe")
        self.one("[data-cost]")
        self.retype(self.one("[id='chunking.size']"), "97")
        self.see("To build: about", "[data-cost=some]")
        self.see("encode chunks", "[data-cost=some]")
        # What can be chosen, and with which settings, is what the server's kinds declare.
        methods = Select(self.one("[id='fusion.method']"))
        self.assertEqual([one.text for one in methods.options], [kind.title for kind in METHODS])
        methods.select_by_visible_text("reciprocal ranks")
        self.assertEqual(self.one("[id='fusion.k']").get_attribute("value"), "60")
        structures = Select(self.one("[id='branches[1].structure.kind']"))
        structures.select_by_visible_text("graph (HNSW)")
        self.assertEqual(self.one("[id='branches[1].structure.ef_search']").get_attribute("value"), "80")
        self.retype(self.one("[id='select.k']"), "60")
        self.see("select.k: 60 is above rerank.shortlist", "[data-cost=some]")
        self.click(".offcanvas button", "Drop")

    def test_a_link_lets_a_person_in_once(self):
        link = f"{self.live_server_url}/enter/{make_entry_link(User.objects.get())}"
        self.driver.delete_all_cookies()
        self.driver.get(link)
        self.click("button")
        self.one(".question")
        self.driver.delete_all_cookies()
        self.driver.get(link)
        self.click("button")
        self.see("has been used", "main")

    def test_a_visitor_who_is_not_signed_in_sees_the_sign_in_page(self):
        self.driver.delete_all_cookies()
        self.driver.get(f"{self.live_server_url}/line/fused")
        self.until(lambda d: d.current_url.endswith("/sign-in"))
        self.see("See at which stage an answer is lost", "main")
        self.assertFalse(self.all(".stage"))
