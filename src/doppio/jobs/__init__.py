"""Long work: jobs with their progress, the worker that does them, and who may keep it busy."""
