"""The tests. None of them says anything about a clock: a machine may be busy with something else."""

from hypothesis import settings

settings.register_profile("unhurried", deadline=None)
settings.load_profile("unhurried")
