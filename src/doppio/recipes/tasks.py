"""Upkeep of what was built, for the worker."""

from procrastinate.contrib.django import app

from doppio.recipes.builds import compact
from doppio.recipes.written import write_texts


@app.task(name="compact", queue="upkeep", lock="trials", queueing_lock="compact")
def compact_task() -> None:
    """Write texts that segments lack, merge segments where there are too many, and delete what no reading list is
    made of any more."""
    write_texts()
    compact()
