"""Upkeep of what was built, for the worker."""

from procrastinate.contrib.django import app

from doppio.recipes.builds import compact


@app.task(name="compact", queue="upkeep", lock="trials", queueing_lock="compact")
def compact_task() -> None:
    """Merge segments where there are too many, and delete what no reading list is made of any more."""
    compact()
