"""Every main view by the rules that a machine can check (WCAG 2.2, A and AA), and its pictures by keyboard alone."""

from selenium.webdriver.common.keys import Keys

from tests.browser.page import GALE, Page
from tests.browser.prepared import SMALL


class Access(Page):
    prepared = SMALL

    def test_no_view_breaks_a_rule(self):
        pin = f"?q={self.number(GALE)}"
        for path, ready in (
            ("/line/documents", ".document-row"),
            ("/line/chunks", ".problem"),
            ("/line/sparse", ".view table, .view .hit, .view h3"),
            ("/line/dense", ".view h3"),
            ("/line/fused", ".view svg"),
            ("/line/reranked", ".view h3, .view svg"),
            ("/line/context", ".view"),
            (f"/line/documents{pin}", ".view"),
            (f"/line/chunks{pin}", ".view"),
            (f"/line/dense{pin}", ".hit"),
            (f"/line/fused{pin}", "[aria-label='Rank flow']"),
            (f"/line/reranked{pin}", ".view"),
            (f"/line/context{pin}", ".view"),
            ("/trials", "table"),
        ):
            self.driver.get(self.live_server_url + path)
            self.one(ready)
            self.until(lambda _: not self.all(".loading"))
            self.breaks_no_rule(path)

    def test_dialogs_and_drawers_break_none(self):
        self.open("/line/fused")
        self.click("button", "Edit recipe")
        self.one("[data-cost]")
        self.breaks_no_rule("recipe editor")
        self.click(".offcanvas button", "Drop")
        self.until(lambda _: not self.all(".offcanvas.show"))
        self.keys("?")
        self.see("Keys and words", ".modal")
        self.breaks_no_rule("help")
        self.keys(Keys.ESCAPE)
        self.open("/line/sparse")
        self.click("button", "Analysis playground")
        self.one(".hard-cases")
        self.breaks_no_rule("playground")
        self.open(f"/line/dense?q={self.number(GALE)}")
        self.click("button", "Map")
        self.until(lambda _: self.all("[data-spot]"))
        self.breaks_no_rule("map")
        self.driver.delete_all_cookies()
        self.driver.get(f"{self.live_server_url}/sign-in")
        self.see("See at which stage an answer is lost", "main")
        self.breaks_no_rule("sign-in")

    def test_pictures_work_by_keyboard(self):
        self.open(f"/line/fused?q={self.number(GALE)}")
        flow = self.one("[aria-label='Rank flow']")
        self.assertIn("first answer at rank", flow.get_attribute("aria-description"))
        first = self.one("[aria-label='Rank flow'] [data-mark][tabindex='0']")
        self.driver.execute_script("arguments[0].focus()", first)
        here = lambda: self.driver.switch_to.active_element  # noqa: E731
        lane, rank = here().get_attribute("data-lane"), here().get_attribute("aria-label")
        here().send_keys(Keys.ARROW_DOWN)
        self.assertEqual(here().get_attribute("data-lane"), lane)
        self.assertIn("rank 2", here().get_attribute("aria-label"))
        here().send_keys(Keys.ARROW_RIGHT)
        self.assertNotEqual(here().get_attribute("data-lane"), lane)
        here().send_keys(Keys.ARROW_LEFT, Keys.ARROW_UP)
        self.assertEqual(here().get_attribute("aria-label"), rank)
        chosen = here().get_attribute("data-node")
        here().send_keys(Keys.ENTER)
        self.until(lambda _: self.all(f"[data-node='{chosen}'][aria-pressed='true']"))
        # There is one tab stop a picture.
        self.assertEqual(len(self.all("[aria-label='Rank flow'] [data-mark][tabindex='0']")), 1)

        self.open(f"/line/context?q={self.number(GALE)}")
        bar = self.one(".budget [data-mark][tabindex='0']")
        self.driver.execute_script("arguments[0].focus()", bar)
        here().send_keys(Keys.ARROW_RIGHT)
        self.assertIn("piece 2:", here().get_attribute("aria-label"))
        here().send_keys(Keys.SPACE)
        self.assertIn("piece 2:", here().get_attribute("aria-label"))

        self.open(f"/line/dense?q={self.number(GALE)}")
        self.click("button", "Map")
        self.until(lambda _: self.all("[data-spot]"))
        self.driver.execute_script("arguments[0].focus()", self.one("[data-spot][tabindex='0']"))
        before = here().get_attribute("data-spot")
        here().send_keys(Keys.ARROW_RIGHT)
        here().send_keys(Keys.ARROW_LEFT)
        here().send_keys(Keys.ARROW_UP)
        moved = here().get_attribute("data-spot")
        self.assertNotEqual(moved, before)
        here().send_keys(Keys.ENTER)
        self.until(lambda _: self.all(f"[data-spot='{moved}'].chosen"))
