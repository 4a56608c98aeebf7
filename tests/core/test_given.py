"""A label made on the text that was given marks the same words after import."""

import csv
import io
import json
import tempfile
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from doppio.core.errors import QuestionError
from doppio.core.formats.bounded import document_from_json, document_to_json
from doppio.core.formats.documents import read_file
from doppio.core.formats.questions import read_questions
from doppio.core.formats.records import Fields
from doppio.core.text.canonical import canonical
from doppio.core.text.given import back, canonical_with_moves, given_length, moved

# Each stands alone: what follows does not compose with it. Two letters that become one, one that becomes two,
# syllables from three letters, marks out of order, line ends of all sorts, signs that are taken out.
PIECES = (
    "a", "Seil ", "  ", "- item", " \n", "\r\n", "\r", "\f", "\u2028", "\x00", "\ufeff", "e\u0301", "\u0958",
    "\u1112\u1161\u11ab", "q\u0307\u0323", "\u212b", "\ufb1d", "\u09c7\u09be", "\U0001f6a0", "3 Wind", "\ud83d",
)  # fmt: skip
texts = st.lists(st.sampled_from(PIECES), min_size=1, max_size=30)
MAP = Fields(("body",), id="id")


class OnTheGivenText(unittest.TestCase):
    @given(texts, st.data())
    def test_a_label_marks_the_same_words(self, pieces, data):
        text = "".join(pieces)
        if not canonical(text).strip():
            return
        first = data.draw(st.integers(0, len(pieces) - 1))
        last = data.draw(st.integers(first + 1, len(pieces)))
        start, end = len("".join(pieces[:first])), len("".join(pieces[:last]))
        wanted = canonical(text[start:end])
        if not wanted:
            return
        lines = f"{json.dumps({'id': 'x', 'text': text})}\n"
        found = {"jsonl": read_file(lines.encode(), "a.jsonl")[0]}
        row = {"id": "x", "body": text}
        found["field"] = read_file(json.dumps(row).encode(), "a.jsonl", MAP)[0]
        if "\ud83d" not in text and "\ufeff" not in text[:1] and "\x00" not in text:
            out = io.StringIO()
            csv.writer(out).writerows([["id", "body"], ["x", text]])
            found["csv"] = read_file(out.getvalue().encode(), "a.csv", MAP)[0]
            found["txt"] = read_file(text.encode(), "a.txt")[0]
        for name, document in found.items():
            self.assertEqual(document.text, canonical(text), name)
            self.assertEqual(document_from_json(json.loads(json.dumps(document_to_json(document)))), document)
            (span,) = self.labels(document, {"start": start, "end": end})
            self.assertEqual(document.text[span.start : span.end], wanted, name)

    def labels(self, document, answer):
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "q.jsonl"
            record = {"id": "1", "text": "Where?", "answers": [{"document": document.id, **answer}]}
            path.write_text(json.dumps(record))
            return read_questions(path, {document.id: document})[0].spans

    @given(st.text(st.characters(), max_size=60))
    def test_offsets_move_forward_from_one_end_to_the_other(self, text):
        kept, moves = canonical_with_moves(text)
        self.assertEqual(kept, canonical(text))
        self.assertEqual(given_length(moves, kept), len(text))
        places = [moved(moves, offset) for offset in range(len(text) + 1)]
        self.assertEqual((places[0], places[-1]), (0, len(kept)))
        self.assertEqual(places, sorted(places))
        for place in set(places):
            self.assertEqual(moved(moves, back(moves, place)), place)

    def test_what_does_not_move_needs_no_map(self):
        self.assertEqual(canonical_with_moves("Seil \u00e4  \n\n\ud800"), ("Seil \u00e4  \n\n\ufffd", ()))

    def test_offsets_beyond_the_given_text_and_on_nothing_are_refused(self):
        document = read_file(b"one\r\ntwo\r\n\x01three", "a.txt")[0]
        self.assertEqual(self.labels(document, {"start": 11, "end": 16})[0].end, len(document.text))
        with self.assertRaisesRegex(QuestionError, "start 11 and end 17 are not a range within 0 to 16"):
            self.labels(document, {"start": 11, "end": 17})
        with self.assertRaisesRegex(QuestionError, "10 to 11 of a.txt holds nothing but control characters"):
            self.labels(document, {"start": 10, "end": 11})


if __name__ == "__main__":
    unittest.main()
