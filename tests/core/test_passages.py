"""Which passages go to the assistant: groups, budgets, context lines; pages and captions on the way there."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.chunking.context import carried_text, context_line, with_context
from doppio.core.formats.documents import read_file
from doppio.core.select.packing import first_groups, pack
from doppio.core.text.document import CAPTION, HEADING, PAGE, PARAGRAPH, Document, DocumentBuilder

GROUPS = st.lists(st.integers(0, 6), max_size=20)


class Groups(unittest.TestCase):
    @settings(max_examples=120)
    @given(GROUPS, st.integers(1, 8))
    def test_the_first_k_groups_are_those_that_a_plain_walk_meets(self, groups, k):
        met = list(dict.fromkeys(groups))[:k]
        found = first_groups(np.array(groups, np.int64), k)
        self.assertEqual(found.tolist(), [group in met for group in groups])

    @settings(max_examples=120)
    @given(GROUPS, st.integers(0, 60))
    def test_a_group_is_paid_for_once_and_the_budget_holds(self, groups, budget):
        price = {group: 3 + 2 * group for group in groups}
        tokens = np.array([price[group] for group in groups], np.int64)
        taken = pack(tokens, budget, np.array(groups, np.int64))
        paid = {group for group, on in zip(groups, taken, strict=True) if on}
        self.assertLessEqual(sum(price[group] for group in paid), budget)
        # What is paid for comes along whole: no later passage of the same group stays behind.
        first = {group: groups.index(group) for group in paid}
        for place, group in enumerate(groups):
            if group in paid and place >= first[group]:
                self.assertTrue(
                    taken[place] or price[group] > budget - sum(price[g] for g in paid if first[g] < place)
                )

    @settings(max_examples=80)
    @given(st.lists(st.integers(1, 30), max_size=15), st.integers(0, 100))
    def test_without_groups_each_passage_pays(self, tokens, budget):
        taken = pack(np.array(tokens, np.int64), budget)
        alone = pack(np.array(tokens, np.int64), budget, np.arange(len(tokens)))
        self.assertEqual(taken.tolist(), alone.tolist())
        self.assertLessEqual(sum(needed for needed, on in zip(tokens, taken, strict=True) if on), budget)


class ContextLines(unittest.TestCase):
    def document(self):
        builder = DocumentBuilder()
        builder.add(HEADING, "Wind rules", 1)
        builder.add(HEADING, "2 Limits", 2)
        builder.add(HEADING, "2.1 Gusts", 3)
        builder.add(PARAGRAPH, "Text.")
        return builder.build("wind.md", None, None, {"Link": "x", "Page": "7"})

    def test_title_and_path(self):
        document = self.document()
        self.assertEqual(context_line(document, 2, "none"), "")
        self.assertEqual(context_line(document, 2, "title"), "Wind rules")
        self.assertEqual(context_line(document, 2, "path"), "Wind rules: 2 Limits: 2.1 Gusts")
        self.assertEqual(context_line(document, -1, "path"), "Wind rules")

    def test_a_title_that_is_no_heading_stands_before_the_sections(self):
        document = self.document()
        other = Document(document.id, "Rules of 2026", document.text, document.blocks, document.sections)
        self.assertEqual(context_line(other, 0, "path"), "Rules of 2026: Wind rules")

    def test_what_is_put_before_and_what_is_carried(self):
        self.assertEqual(with_context("", "a"), "a")
        self.assertEqual(with_context("Wind", "a"), "Wind\na")
        self.assertEqual(carried_text(self.document()), "Link: x\nPage: 7")


class PagesAndCaptions(unittest.TestCase):
    def test_a_form_feed_begins_a_page_in_plain_text(self):
        document = read_file(b"1 WIND\n\nFirst page.\n\f2 ICE\n\nSecond page.", "a.txt")[0]
        pages = {block.level: block.start for block in document.blocks if block.kind == PAGE}
        self.assertEqual(document.text[pages[2] :][:5], "2 ICE")
        self.assertEqual(
            [(section.heading, section.page) for section in document.sections], [("1 WIND", 1), ("2 ICE", 2)]
        )

    def test_captions_are_known_in_every_format(self):
        for data, name in (
            (b"Table 2: Wind limits\n\n| Line | Red |\n|---|---|\n| A | 20 |\n", "a.md"),
            (b"Figure 3. The gauge of tower B9\n\nText.", "a.txt"),
            (b"<table><caption>Table 2: Limits</caption><tr><td>x</td></tr></table>", "a.html"),
            (b"<figure><figcaption>The gauge</figcaption></figure><p>Text", "a.html"),
        ):
            kinds = [block.kind for block in read_file(data, name)[0].blocks]
            self.assertEqual(kinds.count(CAPTION), 1, name)

    def test_a_sentence_about_a_table_is_no_caption(self):
        for text in (b"Table 2 shows the limits.", b"Figures are in crowns: all of them."):
            self.assertEqual(read_file(text, "a.txt")[0].blocks[0].kind, PARAGRAPH)
