"""Several machines: tasks and shards on a Dask cluster, which schedules, beats, recovers and carries."""
