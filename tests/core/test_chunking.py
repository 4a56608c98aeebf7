import unittest

import numpy as np
import regex
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.chunking.kind import filled
from doppio.core.chunking.natural_breaks import pauses
from doppio.core.chunking.parts import part_of
from doppio.core.chunking.table import CorpusTexts, cut, cut_one
from doppio.core.chunking.topic_shift import depth_scores, similarities
from doppio.core.text.abbreviations import habits
from doppio.core.text.document import CODE, HEADING, ITEM, PARAGRAPH, ROW, Document, DocumentBuilder
from doppio.core.text.outline import DROP, Correction, corrected
from doppio.core.text.sentences import sentence_starts, sentences_of
from doppio.core.text.units import characters, words
from tests.core.corpus import WordsAsTokens, documents, encoder

ALPHABETS = (
    "abc de. \n,;E-417",
    "привет мир. \n",
    "مرحبا ابن. \n",
    "山の線。止まる\n ",
    "éé̂ ñ. \n",
    "🚡🏔️ 👩‍🚒. \n",
)
TEXTS = st.sampled_from(ALPHABETS).flatmap(lambda letters: st.text(letters, max_size=300))
RULES = st.sampled_from(["fixed-window", "natural-breaks", "sentence-groups", "outline", "topic-shift", "rows"])
BY_SENTENCE = ("sentence-groups", "topic-shift")
UNITS = {"characters": characters, "words": words}
KINDS = st.sampled_from([HEADING, PARAGRAPH, ITEM, ROW, CODE])


@st.composite
def structured(draw):
    """A document of random blocks in one script."""
    letters = draw(st.sampled_from(ALPHABETS))
    builder = DocumentBuilder()
    for kind, text, level in draw(st.lists(st.tuples(KINDS, st.text(letters, max_size=90), st.integers(1, 4)))):
        builder.add(kind, text if kind in (PARAGRAPH, CODE) else " ".join(text.split()), level)
    return builder.build("d")


def ranges_of(document, chunking):
    units = UNITS[chunking["unit"]](document.text)
    part = cut_one(document, filled(chunking), units)
    return part["start"], part["end"], part, units


def pieces(document, chunking):
    starts, ends, _, _ = ranges_of(document, chunking)
    return [document.text[start:end] for start, end in zip(starts, ends, strict=True)]


class ChunksOfRandomText(unittest.TestCase):
    def test_a_host_begins_where_a_sign_does_though_that_begins_with_a_blank(self):
        document = Document("d", "d", "Wind. \u200d gale")
        for rule in ("fixed-window", "natural-breaks"):
            starts, ends, part, _ = ranges_of(
                document, {"rule": rule, "unit": "characters", "size": 8, "host": {"size": 16}}
            )
            covered = "".join(document.text[start:end] for start, end in zip(starts, ends, strict=True))
            self.assertIn("\u200d", covered, rule)
            self.assertTrue((part["host_start"] <= starts).all())
        for rule in BY_SENTENCE:
            (only,) = pieces(Document("d", "d", " \u0302"), {"rule": rule, "unit": "characters", "size": 8})
            self.assertEqual(only.strip(), "\u0302")
        alone = {"rule": "fixed-window", "unit": "characters", "size": 8, "host": {"size": 60}}
        (only,) = pieces(Document("d", "d", " \u200d"), alone)
        self.assertEqual(only.strip(), "\u200d")

    @settings(max_examples=250)
    @given(
        st.one_of(TEXTS.map(lambda text: Document("d", "d", text)), structured()),
        RULES,
        st.sampled_from(["characters", "words"]),
        st.integers(8, 60),
        st.integers(0, 59),
        st.integers(0, 8),
        st.one_of(st.none(), st.integers(60, 200)),
    )
    def test_every_rule_covers_all_text_within_size_and_overlap(
        self, document, rule, unit, size, overlap, minimum, host
    ):
        overlap = overlap % 4 if rule in BY_SENTENCE else min(overlap, size - 1)
        chunking = {"rule": rule, "unit": unit, "size": size, "overlap": overlap, "minimum": minimum,
                    "host": None if host is None else {"size": host}}  # fmt: skip
        starts, ends, part, units = ranges_of(document, chunking)
        text = document.text
        covered = np.zeros(len(text), bool)
        for start, end in zip(starts, ends, strict=True):
            self.assertLess(start, end)
            covered[start:end] = True
            self.assertLessEqual(units.count(np.array([start]), np.array([end]))[0], size)
        blank = np.array([sign.isspace() for sign in text], bool)
        self.assertTrue((covered | blank).all())
        self.assertTrue((np.diff(starts) > 0).all())
        self.assertTrue((np.diff(ends) > 0).all())
        shared = units.count(starts[1:], np.maximum(ends[:-1], starts[1:]))
        if rule in BY_SENTENCE:
            self.assertTrue(host is not None or self.sentences_shared(document, starts, ends, size, unit) <= overlap)
        else:
            self.assertTrue((shared <= overlap).all())
        self.assertTrue((part["host_start"] <= starts).all() and (part["host_end"] >= ends).all())
        if host is not None:
            self.assertTrue((units.count(part["host_start"], part["host_end"]) <= host).all())

    @staticmethod
    def sentences_shared(document, starts, ends, size, unit):
        """The most sentences that two neighbours share, where no sentence had to be cut."""
        first, last = sentences_of(document)
        units = UNITS[unit](document.text)
        if (units.count(first, last) > size).any():
            return 0
        return max(
            (int(((first >= start) & (last <= end)).sum()) for start, end in zip(starts[1:], ends[:-1], strict=True)),
            default=0,
        )

    @settings(max_examples=60)
    @given(st.lists(st.text("abcdefg", min_size=1, max_size=9), max_size=80), st.integers(12, 60), st.integers(0, 8))
    def test_natural_breaks_never_cut_a_word_that_fits(self, parts, size, overlap):
        text = " ".join(parts)
        chunking = {"rule": "natural-breaks", "unit": "characters", "size": size, "overlap": overlap}
        starts, ends, _, _ = ranges_of(Document("d", "d", text), chunking)
        for start, end in zip(starts, ends, strict=True):
            self.assertTrue(start == 0 or text[start - 1] == " ")
            self.assertTrue(end == len(text) or text[end] == " ")

    @settings(max_examples=80)
    @given(structured(), st.integers(8, 40), st.integers(1, 3))
    def test_outline_crosses_no_heading_and_cuts_no_table_that_fits(self, document, size, level):
        starts, ends, _, units = ranges_of(
            document, {"rule": "outline", "unit": "words", "size": size, "overlap": 0, "level": level}
        )
        blocks = document.blocks
        for place, block in enumerate(blocks):
            before = blocks[place - 1] if place else None
            if block.kind == HEADING and block.level <= level and before is not None and before.kind != HEADING:
                self.assertFalse(((starts < block.start) & (ends > block.start)).any())
            if block.kind in (ROW, CODE) and units.count(np.array([block.start]), np.array([block.end]))[0] <= size:
                text = document.text[block.start : block.end]
                begin = block.start + len(text) - len(text.lstrip())
                inside = (starts > begin) & (starts < block.end)
                self.assertFalse(inside.any(), document.text[block.start : block.end])

    @settings(max_examples=80)
    @given(TEXTS)
    def test_words_are_what_a_plain_scan_finds(self, text):
        units = words(text)
        found = [text[start:end] for start, end in zip(units.starts, units.ends, strict=True)]
        self.assertEqual("".join(found), "".join(text.split()))
        if not any("\u3040" <= sign <= "\u9fff" for sign in text):
            self.assertEqual(found, text.split())


class NaturalBreaks(unittest.TestCase):
    def cut(self, document, size, overlap=0, unit="words"):
        return pieces(document, {"rule": "natural-breaks", "unit": unit, "size": size, "overlap": overlap})

    def test_a_paragraph_end_is_taken_before_a_line_end_and_a_sentence_end(self):
        text = "One two three four.\n\nFive six. Seven eight nine ten."
        self.assertEqual(
            self.cut(Document("d", "d", text), 7), ["One two three four.", "Five six. Seven eight nine ten."]
        )

    def test_a_sentence_end_is_taken_before_a_word_end(self):
        text = "One two three four. Five six seven eight nine."
        self.assertEqual(self.cut(Document("d", "d", text), 6), ["One two three four.", "Five six seven eight nine."])

    def test_a_heading_stays_with_the_text_below_it(self):
        builder = DocumentBuilder()
        builder.add(PARAGRAPH, "one two three four five")
        builder.add(HEADING, "Wind", 2)
        builder.add(PARAGRAPH, "six seven eight nine ten")
        self.assertEqual(
            self.cut(builder.build("d"), 6), ["one two three four five", "Wind\n\nsix seven eight nine ten"]
        )

    def test_an_overlap_begins_at_a_sentence_if_one_begins_within_it(self):
        text = "aa bb cc dd. Ee ff. Gg hh ii jj kk ll."
        chunks = self.cut(Document("d", "d", text), 6, 3)
        self.assertEqual(chunks[0], "aa bb cc dd. Ee ff.")
        self.assertTrue(chunks[1].startswith("Ee ff. Gg"))

    def test_pauses_rank_paragraph_line_sentence_and_word(self):
        text = "A bb. C\nd\n\ne"
        self.assertEqual(pauses(Document("d", "d", text), words(text)).tolist(), [5, 1, 2, 3, 4, 5])


class SentenceGroups(unittest.TestCase):
    CHUNKING = {"rule": "sentence-groups", "unit": "words", "size": 8}

    def test_whole_sentences_are_repeated(self):
        text = "One two three. Four five. Six seven eight. Nine ten. Eleven twelve thirteen."
        self.assertEqual(
            pieces(Document("d", "d", text), {**self.CHUNKING, "overlap": 1}),
            ["One two three. Four five. Six seven eight.", "Six seven eight. Nine ten. Eleven twelve thirteen."],
        )

    def test_a_sentence_longer_than_the_size_is_cut_at_words(self):
        text = " ".join(f"w{n}" for n in range(20)) + ". End here."
        found = pieces(Document("d", "d", text), self.CHUNKING)
        self.assertEqual(" ".join(found), text)
        self.assertGreater(len(found), 2)

    def test_a_short_last_chunk_is_joined_where_it_fits(self):
        text = "One two three four. Five six seven. Eight nine."
        joined = pieces(Document("d", "d", text), {**self.CHUNKING, "size": 9, "minimum": 3})
        self.assertEqual(joined, [text])


class Outline(unittest.TestCase):
    def document(self):
        builder = DocumentBuilder()
        builder.add(HEADING, "Handbook", 1)
        builder.add(HEADING, "1 Wind", 2)
        builder.add(PARAGRAPH, "The line stops at twenty metres a second and waits for the calm.")
        builder.add(HEADING, "2 Ice", 2)
        builder.add(PARAGRAPH, "Short note.")
        builder.add(HEADING, "3 Limits", 2)
        for line in "ABCDE":
            builder.add(ROW, f"Line: {line}; Red: {ord(line)} m/s; Amber: {ord(line) - 5} m/s")
        return builder.build("d")

    def cut(self, **more):
        return pieces(self.document(), {"rule": "outline", "unit": "words", "size": 20, "overlap": 0, **more})

    def test_a_title_goes_with_its_first_section_and_sections_stand_apart(self):
        found = self.cut()
        self.assertTrue(found[0].startswith("Handbook\n\n1 Wind"))
        self.assertEqual(found[1], "2 Ice\n\nShort note.")
        self.assertTrue(found[2].startswith("3 Limits"))

    def test_small_sections_are_joined_up_to_the_minimum(self):
        self.assertEqual(len(self.cut(minimum=5)), len(self.cut()) - 1)
        self.assertIn("2 Ice", self.cut(minimum=5)[0])

    def test_a_table_too_large_is_cut_between_rows_and_each_row_names_its_columns(self):
        rows = [line for chunk in self.cut()[2:] for line in chunk.split("\n") if line.startswith("Line")]
        self.assertEqual(len(rows), 5)
        self.assertTrue(all("Red:" in row and "Amber:" in row for row in rows))

    def test_a_deeper_level_cuts_only_at_higher_headings(self):
        whole = self.cut(size=200, level=1)
        self.assertEqual(len(whole), 1)
        self.assertEqual(len(self.cut(size=200, level=2)), 3)

    def test_a_dropped_section_is_in_no_chunk(self):
        document = self.document()
        correction = Correction("2 Ice", 1, DROP)
        blocks, sections, unmatched = corrected(document.text, document.blocks, [correction])
        changed = Document("d", "d", document.text, blocks, sections)
        self.assertEqual(unmatched, [])
        for rule in ("outline", "natural-breaks", "fixed-window", "sentence-groups"):
            found = pieces(changed, {"rule": rule, "unit": "words", "size": 20, "overlap": 0})
            self.assertNotIn("Short note", " ".join(found))
            self.assertIn("3 Limits", " ".join(found))


class RowsAlone(unittest.TestCase):
    def test_each_row_is_a_chunk_and_other_text_is_cut_around_them(self):
        builder = DocumentBuilder()
        builder.add(HEADING, "Alarms", 1)
        for code in (416, 417):
            builder.add(ROW, f"Code: E-{code}; Meaning: the carriage stops")
        builder.add(PARAGRAPH, "See the handbook.")
        found = pieces(builder.build("d"), {"rule": "rows", "unit": "words", "size": 12, "overlap": 0})
        self.assertEqual(
            found,
            ["Alarms", "Code: E-416; Meaning: the carriage stops", "Code: E-417; Meaning: the carriage stops",
             "See the handbook."],
        )  # fmt: skip


class TopicShift(unittest.TestCase):
    WIND = "The wind is strong on the ridge. A strong wind stops the line. Wind limits are on the panel. "
    FARE = "A child pays half the fare. The fare is paid at the desk. The desk gives a child a ticket."

    def test_the_cut_stands_where_the_words_change(self):
        chunking = {"rule": "topic-shift", "unit": "words", "size": 60, "window": 2, "sensitivity": -0.5}
        self.assertEqual(pieces(Document("d", "d", self.WIND + self.FARE), chunking), [self.WIND.strip(), self.FARE])

    def test_the_same_with_sentence_vectors(self):
        chunking = filled({"rule": "topic-shift", "unit": "words", "size": 60, "window": 2, "sensitivity": -0.5,
                           "signal": "vectors"})  # fmt: skip
        text = self.WIND + self.FARE
        part = cut_one(Document("d", "d", text), chunking, words(text), None, encoder())
        self.assertIn(len(self.WIND), part["start"].tolist())

    @settings(max_examples=50)
    @given(st.lists(st.floats(0, 1), max_size=30))
    def test_depth_is_the_fall_from_the_nearest_peak_on_either_side(self, values):
        def peak(sequence, bottom):
            for value in sequence:
                if value < bottom:
                    break
                bottom = value
            return bottom

        slow = [
            peak(values[:gap][::-1], value) + peak(values[gap + 1 :], value) - 2 * value
            for gap, value in enumerate(values)
        ]
        np.testing.assert_allclose(depth_scores(np.array(values)), slow, atol=1e-12)

    def test_similarity_is_the_cosine_of_the_sentences_on_both_sides(self):
        texts = ["wind ridge", "wind line", "fare desk", "fare child"]
        found = similarities(texts, 2, None)
        # Before the second gap stand (wind 2, ridge, line), after it (fare 2, desk, child).
        right = {"wind": 1, "line": 1, "fare": 1, "desk": 1}
        self.assertAlmostEqual(found[0], (1 * right["wind"]) / (np.sqrt(2) * np.sqrt(4)))
        self.assertEqual(found[1], 0.0)


class Sentences(unittest.TestCase):
    def test_abbreviations_initials_and_decimals_end_no_sentence(self):
        text = "At approx. 4.5 m/s, e.g. Tower B. Smith waits. It stops."
        self.assertEqual([text[start:] for start in sentence_starts(text)], ["It stops."])

    def test_hard_cases(self):
        cases = {
            'He said "Stop." Then he left.': ['He said "Stop."', "Then he left."],
            "(It is shut.) Ask again.": ["(It is shut.)", "Ask again."],
            "See No. 4 and Fig. 2. The answer is no. Go.": ["See No. 4 and Fig. 2.", "The answer is no.", "Go."],
            "1. Stop the line. Call.\n2. Wait.": ["1. Stop the line.", "Call.", "2. Wait."],
            "Wait... Now! Really?! Yes.": ["Wait...", "Now!", "Really?!", "Yes."],
            "z.B. am Turm. Dort i.e. oben.": ["z.B. am Turm.", "Dort i.e. oben."],
            "The rope (cf. 3.2) holds 4.5 t. It is new.": ["The rope (cf. 3.2) holds 4.5 t.", "It is new."],
            "a. Look up. Call B. Smith.": ["a. Look up.", "Call B. Smith."],
            "Да? Вот т.е. так. Нет.": ["Да?", "Вот т.е. так.", "Нет."],
            "هل هذا؟ نعم.": ["هل هذا؟", "نعم."],
            "A line\n\nAnother line": ["A line", "Another line"],
        }
        for text, wanted in cases.items():
            builder = DocumentBuilder()
            for line in text.split("\n"):
                builder.add(ITEM if line[:1].isdigit() else PARAGRAPH, line)
            document = builder.build("d")
            found = [document.text[a:b] for a, b in zip(*sentences_of(document), strict=True)]
            self.assertEqual(found, wanted)

    def test_abbreviations_and_ordinals_are_learned_from_the_document(self):
        plain = "Die Bahn fährt heute wieder bis zum Gipfel. " * 10
        cases = (
            # The document shows itself what is written with a full stop, and after which a sentence goes on.
            "Das Verz. der Seile.| Im Verz. Anlagen stehen sie.",
            "Der Wind dreht ab.| Seile schwingen.",
            "Siehe die Pläne und das Verz. und mehr.| Es steht im Verz.| Die Seile.",
            "Am 3. Oktober endet es.| Im 2. Stock, am 4. dieses.",
            "Es war der 12.| Danach kam er.",
            "Seile, z. B. Tragseile, u. a. Hilfsseile.| Gut.",
            "Nach Abs. 2 und Ziff. 4 gilt es.| Gut.",
        )
        for case in cases:
            text, wanted = case.replace("|", ""), case.split("| ")
            document = Document("d", "d", f"{plain}Die Dinge. {text}")
            found = [document.text[a:b] for a, b in zip(*sentences_of(document), strict=True)]
            self.assertEqual(found[11:], wanted)
            # A part of a document knows what the whole of it shows.
            part = part_of(document, len(plain), len(document.text))
            found = [part.text[a:b] for a, b in zip(*sentences_of(part), strict=True)]
            self.assertEqual(found[1:], wanted)

    def test_three_of_the_same_are_needed_where_nothing_goes_on(self):
        plain = "the rope runs over the tower and back again to the station. " * 40
        for times, learned in ((2, False), (3, True)):
            text = plain + "Then Sgt. Bell came. " * times
            self.assertEqual("sgt" in habits(text).abbreviations, learned)

    def test_windows_of_characters_cut_no_sign(self):
        signs = ["a", "e\u0301", "👨\u200d👩\u200d👧", "🇩🇪", "한", "नि", " ", "\n", "👍🏽"]
        text = "".join(np.random.default_rng(0).choice(signs, 400))
        bounds = {0, *(match.end() for match in regex.finditer(r"\X", text))}
        for rule in ("fixed-window", "natural-breaks"):
            settings_ = {"rule": rule, "unit": "characters", "size": 9, "overlap": 3}
            starts, ends, _, units = ranges_of(Document("d", "d", text), settings_)
            self.assertLessEqual({*starts.tolist(), *ends.tolist()}, bounds)
            self.assertLessEqual(int(units.count(starts, ends).max()), 9)
        self.assertEqual(len(characters("plain text, ä").starts), 13)

    def test_every_block_begins_a_sentence(self):
        builder = DocumentBuilder()
        builder.add(HEADING, "Wind", 2)
        builder.add(ITEM, "- lower case item")
        builder.add(ITEM, "- another")
        document = builder.build("d")
        self.assertEqual(len(sentences_of(document)[0]), 3)

    def test_sentences_of_scripts_without_spaces(self):
        self.assertEqual(sentence_starts("線は止まる。風が強い。").tolist(), [6])


class Table(unittest.TestCase):
    def test_tokens_are_counted_as_the_encoder_counts_them(self):
        corpus = documents()
        chunking = {"rule": "fixed-window", "unit": "words", "size": 9, "overlap": 2}
        table = cut(corpus, chunking, encoder())
        texts = [corpus[d].text[s:e] for d, s, e in zip(table.document, table.start, table.end, strict=True)]
        counted = [len(units.starts) for units in encoder().token_offsets(texts)]
        self.assertEqual(table.tokens.tolist(), counted)

    def test_each_chunk_knows_the_section_that_holds_most_of_it(self):
        builder = DocumentBuilder()
        for title in ("First", "Second"):
            builder.add(HEADING, title, 1)
            builder.add(PARAGRAPH, "word " * 12)
        document = builder.build("d")
        table = cut([document], {"rule": "fixed-window", "unit": "words", "size": 14, "overlap": 0}, WordsAsTokens())
        self.assertEqual([document.section_path(i) for i in table.section], [("First",), ("Second",)])

    def test_a_context_line_is_indexed_and_not_shown(self):
        builder = DocumentBuilder()
        builder.add(HEADING, "Wind rules", 1)
        builder.add(HEADING, "2 Limits", 2)
        builder.add(PARAGRAPH, "word " * 12)
        document = builder.build("d")
        chunking = {"rule": "fixed-window", "unit": "words", "size": 14, "overlap": 0, "context": "path"}
        table = cut([document], chunking, WordsAsTokens())
        texts = CorpusTexts([document], table, "path")
        self.assertEqual(texts.indexed([1])[0], "Wind rules: 2 Limits\n" + texts.texts([1])[0])
        self.assertEqual(table.context.tolist(), [4, 4])

    def test_the_host_and_the_carried_fields_are_what_a_chunk_costs(self):
        text = " ".join(f"w{n}." for n in range(40))
        document = Document("d", "d", text, carried={"Link": "two words"})
        chunking = {"rule": "fixed-window", "unit": "words", "size": 8, "overlap": 0, "host": {"size": 20}}
        table = cut([document], chunking, WordsAsTokens())
        self.assertEqual(table.handed.tolist(), [23] * 6)
        self.assertEqual(sorted(set(table.host_start.tolist())), [0, text.index("w20")])

    def test_no_documents_give_an_empty_table(self):
        chunking = {"rule": "fixed-window", "unit": "words", "size": 9, "overlap": 0}
        self.assertEqual(len(cut([], chunking, WordsAsTokens())), 0)
