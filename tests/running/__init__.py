"""How the checks are run: one queue of linters and test classes over all cores, each lane with what is its own."""
