"""Kinds from a package beside Doppio: found, checked, built, asked, explained, measured and merged like its own."""

import json
import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from doppio.core import outside
from doppio.core.branches.kind import BRANCHES
from doppio.core.build.builder import Builder
from doppio.core.chunking.kind import RULES
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import RecipeError
from doppio.core.fusion.kind import METHODS
from doppio.core.kinds import families, refused
from doppio.core.measure.trial import run_trial
from doppio.core.models.registry import Models
from doppio.core.progress import Silent
from doppio.core.recipe.check import check
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.suggest import kind as suggesting  # noqa: F401  so that its family is there
from doppio.core.text.document import corpus_fingerprint
from tests.core.corpus import MODELS, ROOT, documents
from tests.core.test_kinds import FUSION
from tests.server.workspace import labelled

PLACE, PACKAGE = ROOT / "tests" / "toy_kinds", "toy-kinds"
RECIPE = {
    "format": "doppio-recipe/1",
    "name": "all toys",
    "chunking": {"rule": "line-groups", "unit": "words", "size": 40, "lines": 2},
    "branches": [
        {"id": "runs", "kind": "letters", "length": 4},
        {"id": "near", "kind": "vector", "structure": {"kind": "half-precision"}},
    ],
    "fusion": {"method": "best-rank"},
    "rerank": {"scorer": "shared-words", "shortest": 4},
    "select": {"rule": "shortest-first", "k": 5, "most": 3},
}


class Toys(unittest.TestCase):
    def setUp(self):
        sys.path.append(str(PLACE))
        self.addCleanup(sys.path.remove, str(PLACE))
        outside.switch_on([PACKAGE])
        self.addCleanup(outside.switch_on, None)
        self.place = tempfile.TemporaryDirectory()
        self.addCleanup(self.place.cleanup)

    def test_every_family_has_its_toy_and_says_where_it_is_from(self):
        names = {
            "chunking": "line-groups",
            "branches": "letters",
            "structures": "half-precision",
            "fusion": "best-rank",
            "scorers": "shared-words",
            "selection": "shortest-first",
            "metrics": "all",
            "suggestions": "first-words",
        }
        for family, name in names.items():
            self.assertEqual(families()[family].origin(name), PACKAGE)
            self.assertIn(name, families()[family].kinds)
        self.assertEqual(outside.refused(), [])

    def test_what_is_not_switched_on_is_not_there(self):
        outside.switch_on([])
        self.assertNotIn("best-rank", METHODS.kinds)
        with self.assertRaisesRegex(RecipeError, 'fusion.method: "best-rank" is not one of reciprocal-rank'):
            check(RECIPE | {"chunking": {"rule": "rows", "unit": "words", "size": 40}, "branches": [
                {"id": "near", "kind": "vector"}], "rerank": None})  # fmt: skip
        outside.switch_on(["no-such-package"])
        self.assertIn("no package of this name", outside_reasons()["no-such-package"])

    def test_a_broken_one_is_refused_by_name_and_the_others_work(self):
        broken = {
            "half_broken": "raise RuntimeError('not today')",
            "no_fuse": "class K:\n name = title = 'no-fuse'; settings = (); measure = ''\nKIND = K()",
            "other_name": "class K:\n name = 'something-else'\nKIND = K()",
            "bad_default": "from doppio.core.kinds import whole\nclass K:\n name = title = 'bad-default'\n"
            " measure = ''; settings = (whole('n', 'N', 1, 3, 9),)\n def fuse(self, r, w, s): pass\nKIND = K()",
            "taken": "class K:\n name = title = 'scaled-scores'; settings = (); measure = ''\n"
            " def fuse(self, r, w, s): pass\nKIND = K()",
        }
        folder = Path(self.place.name)
        info = folder / "broken_kinds-1.0.dist-info"
        info.mkdir()
        (info / "METADATA").write_text("Metadata-Version: 2.1\nName: broken-kinds\nVersion: 1.0\n")
        lines = ["[doppio.kinds]"]
        for module, text in broken.items():
            (folder / f"{module}.py").write_text(text + "\n")
            lines.append(f"fusion.{module.replace('_', '-')} = {module}:KIND")
        lines[-1] = "fusion.scaled-scores = taken:KIND"
        lines.append("fusions.no-fuse = no_fuse:KIND")
        (info / "entry_points.txt").write_text("\n".join(lines))
        with mock.patch.object(sys, "path", [*sys.path, str(folder)]):
            outside.switch_on([PACKAGE, "broken-kinds"])
            self.assertEqual(list(METHODS.kinds), [*FUSION, "best-rank"])
            told = outside_reasons()
        self.assertIn("RuntimeError: not today", told["fusion.half-broken"])
        self.assertIn("it has no fuse", told["fusion.no-fuse"])
        self.assertIn("it calls itself 'something-else'", told["fusion.other-name"])
        self.assertIn("its setting 'n' is wrong", told["fusion.bad-default"])
        self.assertIn("a kind of Doppio has the name", told["fusion.scaled-scores"])
        self.assertIn("there is no family", told["fusions.no-fuse"])

    def test_mistakes_in_their_settings_are_told_by_their_path(self):
        for change, message in (
            ({"chunking": {**RECIPE["chunking"], "lines": 0}}, "chunking.lines: 0 is not between 1 and 50"),
            ({"fusion": {"method": "best-rank", "k": 3}}, "fusion.k: unknown key"),
            ({"rerank": {"scorer": "shared-words", "shortest": 99}}, "rerank.shortest: 99 is not between 1 and 20"),
            ({"select": {"rule": "shortest-first", "most": 0}}, "select.most: 0 is not between 1 and 100"),
        ):
            with self.assertRaisesRegex(RecipeError, message):
                check({**RECIPE, **change})

    def pipeline(self, corpus):
        recipe = check(RECIPE)
        self.builder = Builder(ArtifactStore(Path(self.place.name)), Models(MODELS))
        key = corpus_fingerprint(corpus)
        texts = CorpusTexts(corpus, self.builder.chunks(corpus, key, recipe), "none")
        self.builder.indexes(key, recipe, texts)
        self.listed = self.builder.keys(key, recipe).chunks
        return self.builder.open(key, recipe, texts)

    def test_a_recipe_of_toys_is_built_asked_explained_and_measured(self):
        corpus = documents()
        pipeline = self.pipeline(corpus)
        trial = run_trial(pipeline, [document.id for document in corpus], labelled(), progress=Silent())
        self.assertEqual(sum(trial.ledger.values()), 4)
        self.assertGreater(trial.stages["fused"]["all@20"], 0)
        trace = pipeline.ask("E-417: the tension carriage")
        runs = trace.stage("runs")
        self.assertEqual((runs.family, BRANCHES.get("letters").family), ("sparse", "sparse"))
        best = pipeline.texts.texts(runs.chunks[:1].tolist())[0]
        self.assertIn("E-417", best)
        (why,) = pipeline.branches["runs"].explain("E-417: the tension carriage", runs.chunks[:1].tolist())
        self.assertAlmostEqual(sum(term.share for term in why.terms), float(runs.scores[0]), places=2)
        near = trace.stage("near")
        exact = pipeline.branches["near"].index.search_many(
            pipeline.branches["near"].encoder.questions([trace.question]), 50
        )[0]
        self.assertEqual(near.chunks.tolist(), exact[0].tolist(), "half precision proposes, full vectors decide")
        self.assertLessEqual(len(trace.stage("context").passed), 3)
        self.assertTrue(set(RULES.kinds) >= {"line-groups", "outline"})

    def test_their_artifacts_are_merged_when_segments_are(self):
        corpus = documents()
        whole = self.pipeline(corpus).ask("dogs and wind").stage("runs")
        with tempfile.TemporaryDirectory() as other:
            self.place = mock.Mock()
            self.place.name = other
            self.pipeline(corpus[:1])
            grown = self.pipeline(corpus)
            self.assertGreater(len(self.builder.open_list(self.listed).segments), 1)
            with (
                mock.patch("doppio.core.store.segments.MOST_PARTS", 1),
                mock.patch("toy_kinds.letters.Maker.make", side_effect=AssertionError("made anew")),
            ):
                self.assertGreater(self.builder.compact(self.listed), 0)
            again = self.pipeline(corpus)
            for pipeline in (grown, again):
                stage = pipeline.ask("dogs and wind").stage("runs")
                self.assertEqual(stage.chunks.tolist(), whole.chunks.tolist())
                np.testing.assert_allclose(stage.scores, whole.scores)


class Installed(unittest.TestCase):
    def test_the_environment_switches_packages_on_for_the_command(self):
        asked = "from doppio.core.fusion.kind import METHODS; print(*METHODS.kinds)"
        for on, expected in (("", False), (PACKAGE, True)):
            path = f"{ROOT / 'src'}:{PLACE}"
            done = subprocess.run([sys.executable, "-c", asked], text=True, capture_output=True, check=True,
                                  env={"PYTHONPATH": path, "DOPPIO_KINDS": on, "PATH": ""})  # fmt: skip
            self.assertEqual("best-rank" in done.stdout.split(), expected)


class Command(unittest.TestCase):
    def test_a_recipe_of_toys_is_run_by_the_command_and_is_none_without_the_package(self):
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            (folder / "documents").mkdir()
            (folder / "documents" / "wind.md").write_text("# Wind\n\nThe gondola stops at 18 metres a second.\n")
            (folder / "documents" / "dogs.md").write_text("# Dogs\n\nA dog rides for 6 crowns a day.\n")
            answers = [{"document": "dogs.md", "quote": "A dog rides for 6 crowns a day"}]
            question = {"id": "q1", "text": "What does a dog pay?", "answers": answers}
            (folder / "questions.jsonl").write_text(json.dumps(question))
            (folder / "toys.json").write_text(json.dumps(RECIPE))
            command = [sys.executable, "-m", "doppio", "trial", "--documents", str(folder / "documents"),
                       "--questions", str(folder / "questions.jsonl"), "--recipe", str(folder / "toys.json"),
                       "--json", str(folder / "out.json"), "--cache", str(folder / "cache"), "--k", "1"]  # fmt: skip
            environment = {**os.environ, "PYTHONPATH": f"{ROOT / 'src'}:{PLACE}"}
            on, off = ({**environment, "DOPPIO_KINDS": packages} for packages in (PACKAGE, ""))
            done = subprocess.run(command, text=True, capture_output=True, env=on)
            self.assertEqual(done.returncode, 0, done.stderr)
            found = json.loads((folder / "out.json").read_text())
            self.assertEqual((found["ledger"]["delivered"], found["stages"]["runs"]["all@1"]), (1, 1.0))
            without = subprocess.run(command, text=True, capture_output=True, env=off)
            self.assertEqual(without.returncode, 2)
            self.assertIn('chunking.rule: "line-groups" is not one of natural-breaks', without.stderr)


def outside_reasons():
    return {one.kind: one.reason for one in refused()}


if __name__ == "__main__":
    unittest.main()
