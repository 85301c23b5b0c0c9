"""Work on drives for the engine: read scans, self-tests, verified loads. One value a drive, none of them waits."""
