"""The worker's side of a load: the spawner, and the process that does the beats."""
