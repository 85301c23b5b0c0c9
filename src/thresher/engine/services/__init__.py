"""What the engine keeps beside the run: intake, trials, decisions, evidence from elsewhere, the jobs on the bench."""
