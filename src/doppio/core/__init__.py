"""The computation: text, chunks, indexes, rankings, measures. No web, no database, no interface."""

import os

from llvmlite import binding

# Compiled loops over whole numbers run a fifth faster on registers of 512 bits, which the compiler leaves unused of
# its own accord. It has to be told before Numba is imported; other processors are left as they are.
if binding.get_host_cpu_features().get("avx512bw"):
    os.environ.setdefault("NUMBA_CPU_NAME", binding.get_host_cpu_name())
    features = binding.get_host_cpu_features().flatten()
    os.environ.setdefault("NUMBA_CPU_FEATURES", f"{features},-prefer-256-bit")
