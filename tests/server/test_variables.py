"""What differs between installations: typed, told, and documented as it is."""

import os
import unittest
from pathlib import Path
from unittest import mock

from doppio.site import variables
from tests.core.corpus import ROOT


class Variables(unittest.TestCase):
    def test_the_page_for_operators_has_the_list_as_it_is(self):
        page = (ROOT / "docs" / "operating.md").read_text()
        self.assertIn(variables.table(), page)

    def test_every_variable_that_the_server_reads_is_in_the_list(self):
        known = {one.name for one in variables.ALL}
        for path in (ROOT / "src" / "doppio").rglob("*.py"):
            if path.parent.name in ("launch", "command") or path.name == "variables.py":
                continue
            for line in path.read_text().splitlines():
                if "environ" in line and '"DOPPIO_' in line:
                    name = line.split('"DOPPIO_')[1].split('"')[0]
                    self.assertIn(f"DOPPIO_{name}", {*known, "DOPPIO_WARM_UP"}, path)

    def test_values_are_typed_and_wrong_ones_are_told_by_name(self):
        with mock.patch.dict(os.environ, {"DOPPIO_KEEP_JOBS_DAYS": "7.5", "DOPPIO_HOSTS": "a.example, b.example"}):
            self.assertEqual(variables.KEEP_JOBS.value, 7.5)
            self.assertEqual(variables.HOSTS.value, ("a.example", "b.example"))
        self.assertIsInstance(variables.ARTIFACTS.value, Path)
        for name, wrong, message in (
            ("DOPPIO_KEEP_JOBS_DAYS", "soon", "DOPPIO_KEEP_JOBS_DAYS: 'soon' is not a number of days, 0 or more"),
            ("DOPPIO_KEEP_ASKED_DAYS", "-1", "'-1' is not a number of days"),
            ("DOPPIO_LOG", "loud", "DOPPIO_LOG: 'loud' is not one of DEBUG, INFO"),
        ):
            one = next(one for one in variables.ALL if one.name == name)
            with mock.patch.dict(os.environ, {name: wrong}), self.assertRaisesRegex(ValueError, message):
                _ = one.value


if __name__ == "__main__":
    unittest.main()
