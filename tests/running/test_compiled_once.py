"""Processes that want the same loop at once compile it once."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from doppio.launch.places import ROOT

LOOP = """
from numba import njit


@njit(cache=True)
def below(number):
    total = 0
    for one in range(number):
        total += one
    return total


@njit(cache=True)
def twice(number):
    return 2 * below(number)
"""
BOTH = """
import os, sys
from tests.running.compiled_once import compile_once
compile_once()
from loop import below, twice

def missed(ready, tell):
    os.read(ready, 1)
    found = twice(5) == 20 and below(4) == 6
    misses = [sum(loop.stats.cache_misses.values()) for loop in (twice, below)]
    os.write(tell, b"%d%d " % (found, sum(misses)))
    os._exit(0)

ready, go = os.pipe()
read, tell = os.pipe()
for _ in range(2):
    if not os.fork():
        missed(ready, tell)
os.write(go, b"..")
for _ in range(2):
    os.wait()
print(os.read(read, 100).decode())
"""


class CompiledOnce(unittest.TestCase):
    def test_two_processes_that_want_a_loop_compile_it_once(self):
        with tempfile.TemporaryDirectory() as place:
            (Path(place) / "loop.py").write_text(LOOP)
            environment = os.environ | {"NUMBA_CACHE_DIR": place, "PYTHONPATH": f"{ROOT / 'src'}:{ROOT}:{place}"}
            done = subprocess.run(
                [sys.executable, "-c", BOTH], env=environment, text=True, capture_output=True, timeout=100
            )
        self.assertEqual(sorted(done.stdout.split()), ["10", "12"], done.stderr)
