"""Pure functions of the interface, run by Node and checked against Python."""

import json
import random
import subprocess
import tempfile
import unittest
from pathlib import Path

from doppio.core.recipe.check import check, check_analysis, check_chunking
from doppio.recipes.catalogue import catalogue
from tests.core.corpus import ROOT, recipe

WEB = ROOT / "web"
SOURCES = (
    "text/codepoints.ts",
    "text/numbers.ts",
    "text/regions.ts",
    "recipe/paths.ts",
    "stages/documents/filter.ts",
    "stages/documents/search.ts",
    "stages/chunks/settings.ts",
    "recipe/kinds.ts",
    "stages/dense/shades.ts",
    "stages/dense/structures.ts",
    "stages/reranked/settings.ts",
    "stages/context/empty.ts",
    "recipe/scorers.ts",
    "stages/sparse/analysis.ts",
    "columns/lineUp.ts",
)
KINDS = catalogue()
CATALOGUE = json.dumps(KINDS)
RULES = json.dumps(KINDS["families"]["chunking"])
LETTERS = "ab é\n🚡👩‍🚒山ب̂"


class Interface(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        place = tempfile.TemporaryDirectory()
        cls.addClassCleanup(place.cleanup)
        # One start of Node for all of them.
        command = ["node", str(Path(__file__).with_name("evaluate.mjs")), str(WEB), place.name, *SOURCES]
        cls.node = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        cls.addClassCleanup(cls.node.communicate)

    def call(self, module, expression, cases):
        """Evaluate a JavaScript expression of `it`, one case after another; `m` is the module."""
        self.node.stdin.write(json.dumps({"module": module, "expression": expression, "cases": cases}) + "\n")
        self.node.stdin.flush()
        answer = json.loads(self.node.stdout.readline() or '{"error": "Node has ended"}')
        self.assertNotIn("error", answer, answer.get("error"))
        return answer["values"]

    def test_a_part_of_a_page_is_the_words_whose_middle_lies_in_it(self):
        random.seed(6)
        words = ["".join(random.choices("abcdef", k=random.randint(1, 9))) for _ in range(60)]
        text, lines = " ".join(words), []
        ends = [0]
        for word in words:
            ends.append(ends[-1] + len(word) + 1)
        for row in range(6):
            start, end = ends[row * 10], ends[row * 10 + 10] - 1
            place = [0.1, 0.1 * row + 0.02, 0.1 + (end - start) / 100, 0.1 * row + 0.08]
            lines.append({"place": place, "start": start, "end": end, "whole": False})
        picture = {"place": [0.2, 0.7, 0.8, 0.9], "start": 7, "end": 19, "number": 1}
        standing = {"lines": lines, "pictures": [picture]}
        cases = []
        for _ in range(200):
            left, right = sorted(random.uniform(0, 1) for _ in range(2))
            top, bottom = sorted(random.uniform(0, 0.65) for _ in range(2))
            cases.append({"box": [left, top, right, bottom], "standing": standing, "text": list(text)})
        found = self.call("text/regions", "m.rangeOf(it.box, it.standing, it.text)", cases)
        hits = 0
        for case, range_ in zip(cases, found, strict=True):
            left, top, right, bottom = case["box"]
            inside = []
            for row, line in enumerate(lines):
                if not top <= (line["place"][1] + line["place"][3]) / 2 <= bottom:
                    continue
                for at in range(row * 10, row * 10 + 10):
                    low, high = ends[at], ends[at] + len(words[at])
                    middle = 0.1 + ((low + high) / 2 - line["start"]) / 100
                    # On the edge either is right.
                    if left + 0.012 < middle < right - 0.012:
                        inside.append((low, high))
            if inside:
                hits += 1
                self.assertLessEqual(range_["start"], inside[0][0])
                self.assertGreaterEqual(range_["end"], inside[-1][1])
            if range_:
                held = text[range_["start"] : range_["end"]].split()
                self.assertTrue(all(word in words for word in held), held)
        self.assertGreater(hits, 60)
        whole = {"box": [0.1, 0.65, 0.9, 0.95], "standing": standing, "text": list(text)}
        self.assertEqual(self.call("text/regions", "m.rangeOf(it.box, it.standing, it.text)", [whole]),
                         [{"start": 7, "end": 19}])  # fmt: skip
        nothing = {"box": [0.95, 0.95, 1, 1], "standing": standing, "text": list(text)}
        self.assertEqual(self.call("text/regions", "m.rangeOf(it.box, it.standing, it.text)", [nothing]), [None])
        back = {"ranges": [{"start": lines[2]["start"], "end": lines[2]["end"]}], "standing": standing}
        [[box]] = self.call("text/regions", "m.boxesOf(it.ranges, it.standing)", [back])
        for one, other in zip(box, lines[2]["place"], strict=True):
            self.assertAlmostEqual(one, other)

    def test_pieces_of_a_word_are_shaded_as_one(self):
        random.seed(5)
        tokens = ["de", "##pos", "##it", "of", "picture", "picture"]
        matches = []
        for token in tokens:
            cosines = [random.uniform(-0.2, 1) for _ in range(9)]
            best = cosines.index(max(cosines))
            matches.append({"token": token, "weight": random.random(), "best": best, "cosines": cosines})
        [words] = self.call("stages/dense/shades", "m.grouped(it)", [matches])
        self.assertEqual([word["token"] for word in words], ["deposit", "of", "picture"])
        for word, parts in zip(words, (matches[:3], matches[3:4], matches[4:]), strict=True):
            weight = sum(part["weight"] for part in parts)
            self.assertAlmostEqual(word["weight"], weight)
            mean = sum(part["weight"] * max(part["cosines"]) for part in parts) / weight
            self.assertAlmostEqual(word["cosine"], mean)
        [alone] = self.call("stages/dense/shades", "m.oneWord(it)", [words[0]])
        self.assertEqual((max(alone), alone.index(1)), (1, words[0]["cosines"].index(max(words[0]["cosines"]))))
        [every] = self.call("stages/dense/shades", "m.everyWord(it, 9)", [words])
        best = {match["best"] for match in matches}
        self.assertEqual({patch for patch, shade in enumerate(every) if shade}, best)
        self.assertLessEqual(max(every), 1)

    def test_the_same_passage_of_several_lists_has_one_number(self):
        cell = lambda document, start, end: {"document": document, "start": start, "end": end}  # noqa: E731
        case = [
            [cell(1, 0, 100), cell(1, 100, 200), cell(2, 0, 50)],
            [cell(1, 90, 190), cell(2, 0, 50), cell(3, 0, 9)],
            [cell(1, 0, 200), cell(2, 40, 140)],
        ]
        [got] = self.call("columns/lineUp", "[m.lineUp(it), [...m.held(m.lineUp(it))]]", [case])
        self.assertEqual(got, [[[0, 1, 2], [1, 2, 3], [0, 4]], [[0, 2], [1, 2], [2, 2], [3, 1], [4, 1]]])

    def test_offsets_count_code_points_as_python_does(self):
        dice = random.Random(7)
        cases = []
        for _ in range(200):
            text = "".join(dice.choice(LETTERS) for _ in range(dice.randrange(40)))
            start, end = sorted((dice.randrange(len(text) + 1), dice.randrange(len(text) + 1)))
            cases.append({"text": text, "start": start, "end": end})
        got = self.call("text/codepoints", "m.codePoints(it.text).slice(it.start, it.end).join('')", cases)
        self.assertEqual(got, [case["text"][case["start"] : case["end"]] for case in cases])

    def test_every_kind_of_every_family_starts_with_settings_that_the_server_takes(self):
        body = recipe(rerank=None).body
        for family, path in (("chunking", "chunking"), ("branches", "branches"), ("fusion", "fusion"),
                             ("selection", "select")):  # fmt: skip
            for kind in KINDS["families"][family]["kinds"]:
                before = body[path][0] if path == "branches" else body[path]
                (turned,) = self.call("recipe/kinds", f"m.turned({CATALOGUE}, '{family}', it[0], it[1])",
                                      [[before, kind["name"]]])  # fmt: skip
                # What is registered elsewhere has no first value: it is typed.
                named = [one["name"] for one in kind["settings"] if one["required"] and one["type"] == "text"]
                self.assertFalse(set(named) & set(turned))
                turned |= dict.fromkeys(named, "far")
                parts = {"branches": [turned], "fusion": {"method": "reciprocal-rank"}} if path == "branches" else {}
                found = check({**body, path: turned, **parts}).body
                checked = found["branches"][0] if path == "branches" else found[path]
                self.assertEqual({**checked, **turned}, checked, kind["name"])

    def test_every_structure_goes_into_the_branch_that_is_named(self):
        family = KINDS["families"]["structures"]
        started = self.call("recipe/kinds", "({ kind: it.name, ...m.startOf(it.settings) })", family["kinds"])
        body = recipe().body
        changed = self.call("stages/dense/structures", f"m.withStructure({json.dumps(body)}, 'dense', it)", started)
        for structure, given in zip(started, changed, strict=True):
            branch = next(branch for branch in check(given).branches if branch["id"] == "dense")
            self.assertEqual(branch["structure"], structure)
            said = self.call("recipe/kinds", f"m.summaryOf({json.dumps(family)}, it.kind, it)", [structure])
            self.assertNotIn("{", said[0])
        unnamed = self.call("stages/dense/structures", f"m.withStructure({json.dumps(body)}, null, it)", started)
        self.assertEqual(unnamed, changed)

    def test_what_is_switched_on_is_complete(self):
        families = KINDS["families"]
        settings = [
            *families["chunking"]["common"],
            *families["branches"]["kinds"][0]["settings"],
            *KINDS["analysis"],
        ]
        named = {setting["name"]: setting for setting in settings}
        cases = [[named[name], {"size": 160}] for name in ("host", "fields", "grams")]
        host, fields, grams = self.call("recipe/kinds", "m.begun(it[0], it[1])", cases)
        self.assertEqual((host, grams), ({"size": 480}, {"from": 1, "to": 1}))
        self.assertEqual({name: field["weight"] for name, field in fields.items()},
                         {"title": 2, "headings": 1.5, "body": 1})  # fmt: skip
        body = recipe(rerank=None).body
        sparse = {"id": "sparse", "kind": "bm25", "fields": fields, "analysis": {"grams": grams}}
        chunking = {"rule": "outline", "unit": "words", "size": 160, "host": host}
        check({**body, "chunking": chunking, "branches": [sparse, body["branches"][1]]})

    def test_a_branch_comes_goes_and_is_renamed_with_its_weight(self):
        body = recipe(fusion={"method": "scaled-scores", "weights": {"sparse": 2, "dense": 3}}).body
        more = {"id": "more", "kind": "bm25"}
        (grown,) = self.call("recipe/paths", "m.withBranch(it[0], it[1])", [[body, more]])
        self.assertEqual(check(grown).fusion["weights"], {"sparse": 2, "dense": 3, "more": 1})
        (renamed,) = self.call("recipe/paths", "m.withBranchId(it, 0, 'words')", [grown])
        self.assertEqual(check(renamed).fusion["weights"], {"words": 2, "dense": 3, "more": 1})
        (fewer,) = self.call("recipe/paths", "m.withoutBranch(it, 1)", [renamed])
        self.assertEqual([branch["id"] for branch in check(fewer).branches], ["words", "more"])
        (twice,) = self.call("recipe/paths", "m.withBranchId(it, 0, 'more')", [fewer])
        self.assertEqual(twice["fusion"]["weights"], {"words": 2, "more": 1}, "an id that is taken takes no weight")

    def test_the_frontier_holds_what_nothing_beats_in_both(self):
        dice = random.Random(3)
        cases = [
            [{"recall": dice.randrange(5) / 4, "per_second": dice.randrange(1, 6)} for _ in range(8)]
            for _ in range(40)
        ]
        for points, found in zip(cases, self.call("stages/dense/structures", "m.frontier(it)", cases), strict=True):

            def beats(a, b):
                return a != b and a["recall"] >= b["recall"] and a["per_second"] >= b["per_second"]

            expected = [point for point in points if not any(beats(other, point) for other in points)]
            self.assertEqual(sorted(found, key=str), sorted(expected, key=str))
            self.assertEqual([p["per_second"] for p in found], sorted(p["per_second"] for p in found))

    def test_an_older_recipe_has_the_analysis_that_the_server_would_fill_in(self):
        (start,) = self.call("recipe/kinds", "m.startOf(it)", [KINDS["analysis"]])
        self.assertEqual(check_analysis(start), check_analysis({}))
        body = {
            "branches": [
                {"id": "near", "kind": "vector"},
                {"id": "words", "kind": "bm25", "analysis": {"stem": False}},
            ]
        }
        call = f"m.analysisOf(it, null, {json.dumps(start)})"
        (found,) = self.call("stages/sparse/analysis", call, [body])
        self.assertEqual(found, {**start, "stem": False})
        (changed,) = self.call("stages/sparse/analysis", "m.withAnalysis(it, 'words', {stem: true})", [body])
        self.assertEqual([branch.get("analysis") for branch in changed["branches"]], [None, {"stem": True}])

    def test_pieces_make_up_the_text_and_know_what_covers_them(self):
        dice = random.Random(11)
        cases = []
        for _ in range(150):
            text = "".join(dice.choice(LETTERS) for _ in range(dice.randrange(1, 50)))
            low, high = sorted(dice.sample(range(len(text) + 1), 2))
            ranges = []
            for kind in dice.sample(["answer", "term", "token"], dice.randrange(4)):
                start, end = sorted((dice.randrange(len(text) + 1), dice.randrange(len(text) + 1)))
                if start < end:
                    ranges.append({"start": start, "end": end, "kind": kind})
            cases.append({"text": text, "low": low, "high": high, "ranges": ranges})
        call = "m.pieces(m.codePoints(it.text), it.low, it.high, it.ranges)"
        for case, pieces in zip(cases, self.call("text/codepoints", call, cases), strict=True):
            self.assertEqual("".join(piece["text"] for piece in pieces), case["text"][case["low"] : case["high"]])
            for piece in pieces:
                places = range(piece["start"], piece["start"] + len(piece["text"]))
                for span in case["ranges"]:
                    inside = [span["start"] <= place < span["end"] for place in places]
                    self.assertEqual(all(inside), span["kind"] in piece["kinds"])
                    self.assertEqual(all(inside), any(inside))

    def test_figures_have_their_unit(self):
        self.assertEqual(
            self.call("text/numbers", "m.duration(it)", [0.2, 12.4, 89, 300, 7200]),
            ["under a second", "12 s", "89 s", "5 min", "2.0 h"],
        )
        self.assertEqual(self.call("text/numbers", "m.milliseconds(it)", [0.0004, 0.0312]), ["0.4 ms", "31 ms"])
        self.assertEqual(
            self.call("text/numbers", "m.bytes(it)", [12, 2048, 5_500_000, 3_000_000_000]),
            ["12 B", "2 KiB", "5.2 MiB", "2.79 GiB"],
        )
        self.assertEqual(self.call("text/numbers", "m.score(it)", [0.1234, -0.5, 3.21987, 17.04]),
                         [".123", "-.500", "3.220", "17.0"])  # fmt: skip
        self.assertEqual(self.call("text/numbers", "m.percent(it)", [0, 0.918, 1]), ["0 %", "91.8 %", "100 %"])

    def test_fields_of_a_recipe_are_read_and_set_by_their_path(self):
        body = {"chunking": {"size": 160}, "branches": [{"k1": 1}, {"depth": 50}], "rerank": None}
        paths = ["chunking.size", "branches[1].depth", "rerank.floor", "nothing.here"]
        got = self.call(
            "recipe/paths", "m.field(it.body, it.path) ?? null", [{"body": body, "path": p} for p in paths]
        )
        self.assertEqual(got, [160, 50, None, None])
        case = {"body": body, "path": "branches[0].k1", "value": 2}
        changed = self.call("recipe/paths", "[m.withField(it.body, it.path, it.value), it.body]", [case])[0]
        self.assertEqual((changed[0]["branches"][0]["k1"], changed[1]), (2, body))

    def test_problems_are_split_by_field_as_the_server_writes_them(self):
        from doppio.core.errors import RecipeError
        from doppio.core.recipe.check import check

        wrong = {
            "format": "doppio-recipe/1",
            "chunking": {"rule": "natural-breaks", "unit": "tokens", "size": 160, "overlap": 200},
            "branches": [{"id": "sparse", "kind": "bm25"}],
            "fusion": {"method": "scaled-scores", "weights": {"other": 1}},
        }
        with self.assertRaises(RecipeError) as caught:
            check(wrong)
        found = self.call("recipe/paths", "m.problems(it)", [str(caught.exception)])[0]
        self.assertEqual(found["chunking.overlap"], "200 is not below chunking.size, 160")
        self.assertIn("no branch has this id", found["fusion.weights.other"])

    def test_words_are_found_as_python_finds_them(self):
        dice = random.Random(5)
        cases = []
        for _ in range(150):
            text = "".join(dice.choice("aAbB 🚡é") for _ in range(dice.randrange(30)))
            cases.append({"text": text, "words": "".join(dice.choice("ab🚡é") for _ in range(2))})
        got = self.call("stages/documents/search", "m.findAll(Array.from(it.text), it.words)", cases)
        for case, ranges in zip(cases, got, strict=True):
            found, at = [], 0
            while (at := case["text"].lower().find(case["words"], at)) >= 0:
                found.append({"start": at, "end": at + 2})
                at += 2
            self.assertEqual(ranges, found, case)

    def test_documents_are_filtered_by_words_and_metadata(self):
        def entry(key, kind, value):
            return {"key": key, "kind": kind, "value": value}

        rows = [
            {"title": "Wind rules", "name": "rules/wind.md", "metadata": [
                entry("valid", "date", "2025-11-01"), entry("lines", "list", ["A", "B"])]},
            {"title": "Ice", "name": "rules/ice.md", "metadata": [
                entry("valid", "date", "2024-01-05"), entry("pages", "number", 9)]},
            {"title": "Dogs", "name": "dogs.html", "metadata": [entry("pages", "number", 12)]},
        ]  # fmt: skip
        cases = [
            ("rules", None, [0, 1]),
            ("wind md", None, [0]),
            ("", {"key": "valid", "test": "from", "value": "2024-06-01"}, [0]),
            ("", {"key": "valid", "test": "to", "value": "2024-06-01"}, [1]),
            ("", {"key": "valid", "test": "is", "value": ""}, [0, 1]),
            ("", {"key": "lines", "test": "is", "value": "B"}, [0]),
            ("", {"key": "pages", "test": "to", "value": "9"}, [1]),
            ("", {"key": "pages", "test": "from", "value": "10"}, [2]),
            ("", {"key": "nothing", "test": "is", "value": ""}, []),
        ]
        given = [{"rows": rows, "words": words, "condition": condition} for words, condition, _ in cases]
        got = self.call(
            "stages/documents/filter", "m.filtered(it.rows, it.words, it.condition).map(r => r.title)", given
        )
        self.assertEqual(got, [[rows[place]["title"] for place in places] for _, _, places in cases])
        facets = self.call("stages/documents/filter", "m.facets(it)", [rows])[0]
        self.assertEqual([facet["key"] for facet in facets], ["pages", "valid", "lines"])
        self.assertEqual(facets[0]["values"], ["9", "12"])

    def test_another_rule_takes_what_it_needs_and_leaves_the_rest(self):
        start = {"rule": "natural-breaks", "unit": "tokens", "size": 160, "overlap": 24}
        rules = ("outline", "sentence-groups", "topic-shift", "rows", "fixed-window")
        got = self.call(
            "stages/chunks/settings", f"m.withRule({RULES}, it[0], it[1])", [[start, rule] for rule in rules]
        )
        for rule, found in zip(rules, got, strict=True):
            self.assertEqual(check_chunking(found)["rule"], rule)
        self.assertEqual(got[1]["overlap"], 1)
        back = self.call("stages/chunks/settings", f"m.withRule({RULES}, it, 'natural-breaks')", got)
        self.assertTrue(all("level" not in one and "signal" not in one for one in back))
        same = self.call("stages/chunks/settings", f"m.same({RULES}, it[0], it[1])",
                         [[start, {**start, "minimum": 0, "context": "none"}], [start, got[0]]])  # fmt: skip
        self.assertEqual(same, [True, False])

    def test_what_a_floor_drops_is_counted_question_by_question(self):
        dice = random.Random(7)
        for _ in range(30):
            questions = [
                {"id": number, "answerable": dice.random() < 0.8,
                 "scores": [round(dice.random(), 2) for _ in range(dice.randrange(1, 8))]}
                for number in range(6)
            ]  # fmt: skip
            for row in questions:
                row["relevant"] = [row["answerable"] and dice.random() < 0.4 for _ in row["scores"]]
            floor, k = round(dice.random(), 2), dice.randrange(1, 6)
            (found,) = self.call(
                "stages/reranked/settings", "m.underFloor(it.questions, it.floor, it.k)",
                [{"questions": questions, "floor": floor, "k": k}],
            )  # fmt: skip
            answers = [[s for s, r in zip(q["scores"][:k], q["relevant"][:k], strict=True) if r] for q in questions]
            none = [q for q in questions if not q["answerable"]]
            self.assertEqual(found, {
                "hits": sum(s < floor for q in questions for s in q["scores"]),
                "all": sum(len(q["scores"]) for q in questions),
                "delivered": sum(bool(own) for own in answers),
                "lost": sum(bool(own) and max(own) < floor for own in answers),
                "unanswerable": len(none),
                "empty": sum(max(q["scores"][:k]) < floor for q in none),
            })  # fmt: skip

    def test_what_is_left_empty_is_counted_question_by_question(self):
        dice = random.Random(8)
        for _ in range(20):
            asked = [
                {
                    "answerable": dice.random() < 0.7,
                    "answered": round(dice.random(), 2),
                    "delivered": dice.random() < 0.8,
                }
                for _ in range(12)
            ]  # fmt: skip
            least = round(dice.random(), 2)
            (found,) = self.call("stages/context/empty", "m.leftEmpty(it[0], it[1])", [[asked, least]])
            none, real = ([q for q in asked if q["answerable"] is is_so] for is_so in (False, True))
            self.assertEqual(found, {
                "unanswerable": len(none), "empty": sum(q["answered"] < least for q in none),
                "delivered": sum(q["delivered"] for q in real),
                "lost": sum(q["delivered"] and q["answered"] < least for q in real),
            })  # fmt: skip

    def test_one_scorer_stands_by_its_name_and_several_in_a_list(self):
        one, two = {"scorer": "a", "weight": 1}, {"scorer": "b", "weight": 2}
        before = {"scorer": "a", "shortest": 4, "shortlist": 20, "window": 64}
        uses = self.call("recipe/scorers", "m.usesOf(it)", [None, before, {"scorers": [one, two]}])
        self.assertEqual(uses, [[], [one], [one, two]])
        put = self.call("recipe/scorers", "m.withUses(it[0], it[1])",
                        [[before, []], [before, [two]], [before, [one, two]], [None, [one]]])  # fmt: skip
        kept = {"shortlist": 20, "window": 64}
        self.assertEqual(put, [None, {"scorer": "b", **kept}, {"scorers": [one, two], **kept}, {"scorer": "a"}])
        back = self.call("recipe/scorers", "m.usesOf(m.withUses({}, it))", [[one], [one, two]])
        self.assertEqual(back, [[one], [one, two]])

    def test_scores_are_counted_in_steps_and_moves_by_their_ends(self):
        values = [0, 0.049, 0.05, 0.5, 0.999, 1, -3, 7]
        (bins,) = self.call("stages/reranked/settings", "m.binned(it, 0, 1, 20)", [values])
        self.assertEqual((sum(bins), bins[0], bins[1], bins[10], bins[19]), (len(values), 3, 1, 1, 3))
        (moves,) = self.call("stages/reranked/settings", "m.moves(it)", [[[3, 1], [1, 1], [3, 1], [3, 1], [1, 1]]])
        self.assertEqual(moves, [{"from": 1, "to": 1, "count": 2}, {"from": 3, "to": 1, "count": 3}])
        (parts,) = self.call("stages/reranked/settings", "m.passagesOf(it)", [" one\nline\n \n\n two \n\n"])
        self.assertEqual(parts, ["one\nline", "two"])
